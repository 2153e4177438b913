package journal

import (
	"io/fs"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// countingDisk is the machine's disk. It counts the files that are open, and is
// full while there are too many.
type countingDisk struct {
	Disk
	open atomic.Int64
	room int64 // 0: for all
}

type countingHandle struct {
	osHandle
	disk *countingDisk
}

func (d *countingDisk) OpenFile(path string, flag int, perm fs.FileMode) (Handle, error) {
	h, err := d.Disk.OpenFile(path, flag, perm)
	if err != nil {
		return nil, err
	}
	d.open.Add(1)
	return countingHandle{h.(osHandle), d}, nil
}

func (h countingHandle) WriteAt(p []byte, at int64) (int, error) {
	if h.disk.room > 0 && h.disk.open.Load() > h.disk.room {
		return 0, &fs.PathError{Op: "write", Path: h.Name(), Err: syscall.ENOSPC}
	}
	return h.osHandle.WriteAt(p, at)
}

func (h countingHandle) Close() error {
	defer h.disk.open.Add(-1)
	return h.osHandle.Close()
}

func attached(t *testing.T) (*File, *countingDisk) {
	disk := &countingDisk{Disk: OS}
	f, err := Attach(disk, t.TempDir(), "notes", false)
	require.NoError(t, err)
	require.NoError(t, f.Lock(true, time.Second))
	require.NoError(t, f.Rewrite(Header{ID: "b3f1"}, nil, 0, 0, End{}))
	return f, disk
}

func TestReplacedFilesStayOpenForAWhile(t *testing.T) {
	t.Parallel()
	f, disk := attached(t)
	require.NoError(t, f.Rewrite(*f.Header(), nil, 0, 0, End{}))
	require.NoError(t, f.Rewrite(*f.Header(), nil, 0, 0, End{}))
	assert.Eventually(t, func() bool { return disk.open.Load() == 1 }, hang.Patience, time.Millisecond)

	f.retired.after = time.Hour
	for range 5 {
		require.NoError(t, f.Rewrite(*f.Header(), nil, 0, 0, End{}))
	}
	assert.EqualValues(t, 6, disk.open.Load())
	for range 100 {
		require.NoError(t, f.Rewrite(*f.Header(), nil, 0, 0, End{}))
	}
	require.NoError(t, f.Rewrite(*f.Header(), make([]byte, retireBytes), 0, 0, End{}))
	require.NoError(t, f.Rewrite(*f.Header(), nil, 0, 0, End{}))
	f.retired.closing.Wait()
	assert.EqualValues(t, 1, disk.open.Load(), "one so large goes at once")

	require.NoError(t, f.Rewrite(*f.Header(), nil, 0, 0, End{}))
	require.NoError(t, f.Close())
	assert.Zero(t, disk.open.Load())
}

func TestReplacedFilesGoWhereTheDiskIsFull(t *testing.T) {
	t.Parallel()
	f, disk := attached(t)
	disk.room = 2
	for range 5 {
		require.NoError(t, f.Rewrite(*f.Header(), nil, 0, 0, End{}), "to a new file")
		require.NoError(t, f.Append(line1), "to the same")
	}
	disk.room = 1
	require.NoError(t, f.Append(line1))
	assert.EqualValues(t, 1, disk.open.Load())
	disk.open.Add(1)
	assert.ErrorIs(t, f.Append(line1), syscall.ENOSPC, "with none to close")
	disk.open.Add(-1)
	require.NoError(t, f.Close())
}

var line1 = []byte("{\"version\":1}\n")
