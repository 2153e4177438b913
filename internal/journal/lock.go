package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// ErrForeign is returned for a file that holds bytes but no line of this format. It belongs to
// another program.
var ErrForeign = errors.New("not a file of this format")

// ErrBusy is returned if the lock is not available within the wait.
var ErrBusy = errors.New("busy")

// A process that finds the lock taken sleeps between two tries for shortestPause, growing to
// longestPause. A process that lets waiting processes go first sleeps for giveWay. That is longer
// than longestPause, so that one of them finds the lock free.
const (
	shortestPause = 100 * time.Microsecond
	longestPause  = 2 * time.Millisecond
	giveWay       = 3 * time.Millisecond
	askEvery      = 64 // the lock is taken this many times between two looks for waiting processes
)

// A lock is held by one process exclusively, or shared by readers. The file stays open, so that
// taking the lock costs one system call.
type lock struct {
	file     *os.File
	id       ID // of file
	path     string
	readOnly bool
	taken    int       // how often it was taken: see askEvery
	looked   time.Time // when the path was last found to lead to file
}

// lookEvery is how often the lock's path is checked if the caller does not need certainty.
const lookEvery = 100 * time.Millisecond

// openLock opens the lock file. A reader never creates it.
func openLock(path string, readOnly bool) (*lock, error) {
	flag := os.O_CREATE | os.O_RDWR
	if readOnly {
		flag = os.O_RDONLY
	}
	f, err := os.OpenFile(path, flag, 0o600)
	if err != nil {
		return nil, err
	}
	own, err := lookFile(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &lock{file: f, id: own.ID, path: path, readOnly: readOnly}, nil
}

// mine reports whether the lock's path still leads to the locked file. If not, the directory was
// replaced, and other processes lock another file.
func (l *lock) mine() (bool, error) {
	now, err := lookPath(l.path)
	if isAbsent(err) {
		return false, nil
	}
	return now.ID == l.id, err
}

// acquireCertainly is acquire of the lock at the path. Without certain it checks the path only
// every lookEvery.
func (l *lock) acquireCertainly(certain, shared bool, wait time.Duration, queue *os.File) error {
	var end time.Time // the end of the wait; zero at the first try
	for {
		waited, err := l.acquire(shared, wait, queue)
		if err != nil {
			return err
		}
		if !certain && time.Since(l.looked) < lookEvery {
			return nil
		}
		mine, err := l.mine()
		switch {
		case err != nil:
		case mine:
			if !certain { // with certain, every call checks the path
				l.looked = time.Now()
			}
			return nil
		case !end.IsZero() && wait <= 0:
			err = fmt.Errorf("%w: it is replaced again and again", ErrBusy)
		default:
			err = l.reopen()
		}
		if err != nil {
			return errors.Join(fmt.Errorf("check the lock %s: %w", l.path, err), l.release())
		}
		if end.IsZero() {
			end = time.Now().Add(wait - waited)
		}
		wait = max(time.Until(end), 0)
	}
}

// reopen replaces the locked file by the one at the path.
func (l *lock) reopen() error {
	opened, err := openLock(l.path, l.readOnly)
	if err != nil {
		return err
	}
	l.file.Close() // this unlocks it
	l.file, l.id = opened.file, opened.id
	return nil
}

// acquire takes the lock within wait. Between two tries it sleeps for a random, growing time, so
// that waiting processes do not collide.
//
// A process that commits in a loop frees the lock for microseconds only. Another one that sleeps
// would never find it free. So a waiting process takes a shared lock on queue, the data file, which
// is not locked otherwise. A process that finds that lock lets it go first.
func (l *lock) acquire(shared bool, wait time.Duration, queue *os.File) (waited time.Duration, err error) {
	if l.taken++; l.taken%askEvery == 0 && somebodyWaits(queue) {
		time.Sleep(giveWay)
	}
	var start time.Time // of the wait
	shown := false
	defer func() {
		if shown {
			_ = funlock(queue) // it ends with the process at the latest
		}
	}()
	for pause := shortestPause; ; pause = min(pause*3/2, longestPause) {
		got, err := flock(l.file, shared)
		if err != nil {
			return waited, fmt.Errorf("lock %s: %w", l.path, err)
		}
		if got {
			return waited, nil
		}
		if start.IsZero() {
			start = time.Now()
		}
		if waited = time.Since(start); waited >= wait {
			return waited, fmt.Errorf("%w: %s has held the lock %s for %v; try again", ErrBusy, holder(l.file), l.path, wait)
		}
		if !shown && queue != nil {
			shown, _ = flock(queue, true)
		}
		time.Sleep(pause/2 + rand.N(pause/2))
	}
}

func (l *lock) release() error { return funlock(l.file) }

func somebodyWaits(queue *os.File) bool {
	if queue == nil {
		return false
	}
	free, err := flock(queue, false)
	if free {
		err = funlock(queue)
	}
	return !free && err == nil
}

// isAbsent reports whether err means that a file does not exist.
func isAbsent(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// Hold takes an exclusive lock on a file, which it creates. The error wraps ErrBusy if somebody else
// holds it, in this process too. release unlocks it; the file stays.
func Hold(path string) (release func() error, err error) {
	if err := MakeDir(OS, filepath.Dir(path)); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	had, err := flock(f, false)
	if err == nil && !had {
		err = fmt.Errorf("%w: %s is locked", ErrBusy, path)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f.Close, nil
}
