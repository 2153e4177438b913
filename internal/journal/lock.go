package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"time"
)

// ErrBusy is returned when the lock is not had within the wait.
var ErrBusy = errors.New("busy")

// A lock is held by one process, or shared by several that only read. The
// file stays open between two holds, so that each costs one system call.
type lock struct {
	file *os.File
	path string
}

// openLock opens the lock file; a reader never makes it.
func openLock(path string, readOnly bool) (*lock, error) {
	flag := os.O_CREATE | os.O_RDWR
	if readOnly {
		flag = os.O_RDONLY
	}
	f, err := os.OpenFile(path, flag, 0o600)
	if err != nil {
		return nil, err
	}
	return &lock{f, path}, nil
}

// acquire takes the lock within wait. Between two tries it sleeps 0.1 to 5 ms,
// growing, and at random, so that those who wait don't meet again.
func (l *lock) acquire(shared bool, wait time.Duration) error {
	start := time.Now()
	for pause := 100 * time.Microsecond; ; pause = min(pause*3/2, 5*time.Millisecond) {
		got, err := flock(l.file, shared)
		if err != nil {
			return fmt.Errorf("lock %s: %w", l.path, err)
		}
		if got {
			return nil
		}
		if time.Since(start) >= wait {
			return fmt.Errorf("%w: another process has held the lock %s for %v; try again", ErrBusy, l.path, wait)
		}
		time.Sleep(pause/2 + rand.N(pause/2))
	}
}

// isAbsent says whether err means that there is no such file.
func isAbsent(err error) bool { return errors.Is(err, fs.ErrNotExist) }
