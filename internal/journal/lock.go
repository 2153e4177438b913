package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"time"
)

// ErrForeign is returned for a file that holds bytes, and not one line of this
// format: it belongs to somebody else.
var ErrForeign = errors.New("no file of this format")

// ErrBusy is returned when the lock is not had within the wait.
var ErrBusy = errors.New("busy")

// How long a process that finds the lock taken sleeps between two tries, and
// how long one that comes lets those go first who wait: longer than they sleep,
// so that one of them finds it free.
const (
	shortestPause = 100 * time.Microsecond
	longestPause  = 2 * time.Millisecond
	giveWay       = 3 * time.Millisecond
	askEvery      = 64 // it looks whether somebody waits at every so many times that it takes the lock
)

// A lock is held by one process, or shared by several that only read. The
// file stays open between two holds, so that each costs one system call.
type lock struct {
	file     *os.File
	id       ID // of file
	path     string
	readOnly bool
	taken    int       // how often it was taken: see askEvery
	looked   time.Time // when the path was found to lead to it, as is looked every so often
}

// lookEvery is how often it is looked whether the lock's path still leads to
// the file that is locked, where that need not be certain.
const lookEvery = 100 * time.Millisecond

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
	own, err := lookFile(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &lock{file: f, id: own.ID, path: path, readOnly: readOnly}, nil
}

// mine says whether the lock's path still leads to the file that is locked:
// else its directory was removed and made again, or replaced by another, and
// others lock another file.
func (l *lock) mine() (bool, error) {
	now, err := lookPath(l.path)
	if isAbsent(err) {
		return false, nil
	}
	return now.ID == l.id, err
}

// acquireCertainly is acquire of the lock that the path leads to. Without
// certain it looks every so often only.
func (l *lock) acquireCertainly(certain, shared bool, wait time.Duration, queue *os.File) error {
	var end time.Time // when the wait is over; zero: the first try
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
			if !certain { // else it is looked each time, and when does not matter
				l.looked = time.Now()
			}
			return nil
		case !end.IsZero() && wait <= 0:
			err = fmt.Errorf("%w: it is replaced again and again", ErrBusy)
		default:
			err = l.reopen()
		}
		if err != nil {
			return errors.Join(fmt.Errorf("look at the lock %s: %w", l.path, err), l.release())
		}
		if end.IsZero() {
			end = time.Now().Add(wait - waited)
		}
		wait = max(time.Until(end), 0)
	}
}

// reopen gives up the file that was locked for the one that the path leads to.
func (l *lock) reopen() error {
	anew, err := openLock(l.path, l.readOnly)
	if err != nil {
		return err
	}
	l.file.Close() // which unlocks it
	l.file, l.id = anew.file, anew.id
	return nil
}

// acquire takes the lock within wait. Between two tries it sleeps, growing,
// and at random, so that those who wait don't meet again.
//
// A process that commits again and again gives the lock back for microseconds
// only, in which another that sleeps never finds it free. So whoever waits
// shows it by a shared lock on queue, the data file, which nobody else locks;
// and whoever comes and sees that gives way first.
func (l *lock) acquire(shared bool, wait time.Duration, queue *os.File) (waited time.Duration, err error) {
	if l.taken++; l.taken%askEvery == 0 && somebodyWaits(queue) {
		time.Sleep(giveWay)
	}
	var start time.Time // of waiting
	shown := false
	defer func() {
		if shown {
			_ = funlock(queue) // ends with the process at the latest
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

// isAbsent says whether err means that there is no such file.
func isAbsent(err error) bool { return errors.Is(err, fs.ErrNotExist) }
