package journal

import (
	"cmp"
	"io"
	"sync"
	"time"
)

// How long and how many files that others were renamed over stay open.
const (
	retireAfter = time.Second
	retireBytes = 64 << 20
	retireFiles = 64
)

// retired holds the files that others were renamed over. The last close of such
// a file frees its blocks, and where the disk is told of that at once (the
// mount option discard), the next sync waits for it, longer than for all else
// here. So they are closed some time later, when whoever wrote so much that
// a file was written anew has likely paused.
type retired struct {
	mu      sync.Mutex
	files   []io.Closer
	bytes   int64
	after   time.Duration // 0: retireAfter
	later   *time.Timer
	closing sync.WaitGroup
}

// add takes a file of so many bytes.
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

// close has all closed in the background, and says whether there were any; mu
// must be held.
func (r *retired) close() bool {
	files := r.files
	if len(files) == 0 {
		return false
	}
	r.later.Stop()
	r.files, r.bytes, r.later = nil, 0, nil
	r.closing.Go(func() {
		for _, file := range files {
			file.Close() // nothing in it counts any more
		}
	})
	return true
}

// free closes all, waits until they are closed, and says whether there were any.
// It must not run beside add.
func (r *retired) free() bool {
	r.mu.Lock()
	had := r.close()
	r.mu.Unlock()
	r.closing.Wait()
	return had
}
