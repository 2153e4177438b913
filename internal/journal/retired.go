package journal

import (
	"cmp"
	"io"
	"sync"
	"time"
)

// Replaced files stay open for retireAfter, at most mostRetired files and mostBytes bytes.
const (
	retireAfter = time.Second
	retireBytes = 64 << 20
	retireFiles = 64
)

// retired holds replaced files that are still open. The last close of such a file frees its blocks.
// If the file system reports that to the disk at once (mount option discard), the next sync waits for it, longer
// than for everything else here. So these files are closed later, when the writer has probably
// paused.
type retired struct {
	mu      sync.Mutex
	files   []io.Closer
	bytes   int64
	after   time.Duration // 0 means retireAfter
	later   *time.Timer
	closing sync.WaitGroup
}

// add takes over a file of size bytes.
func (r *retired) add(file io.Closer, bytes int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.files = append(r.files, file)
	r.bytes += bytes
	if r.later == nil {
		r.later = time.AfterFunc(cmp.Or(r.after, retireAfter), func() {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.close()
		})
	}
	if r.bytes > retireBytes || len(r.files) == retireFiles {
		r.close()
	}
}

// close closes all files in the background and reports whether there were any. mu must be held.
func (r *retired) close() bool {
	files := r.files
	if len(files) == 0 {
		return false
	}
	r.later.Stop()
	r.files, r.bytes, r.later = nil, 0, nil
	r.closing.Go(func() {
		for _, file := range files {
			file.Close() // no line in it is used
		}
	})
	return true
}

// free closes all files, waits until they are closed, and reports whether there were any. It must
// not run concurrently with add.
func (r *retired) free() bool {
	r.mu.Lock()
	had := r.close()
	r.mu.Unlock()
	r.closing.Wait()
	return had
}
