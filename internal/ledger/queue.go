package ledger

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
)

// MaxQueue is how many commits may wait in one process.
const MaxQueue = 10_000

// A request is a commit on its way.
type request struct {
	author entry.Author
	within time.Duration // over 0: a prompt commit, to be synced within that time
	judge  Judge
	turn   chan bool // true: lead the next group; false: it is done. nil until the request waits
	came   time.Time // when it began to wait
	again  bool      // the lock was not had for its group, and its own time is not over

	result   Result
	err      error
	panicked any
}

// A Judge decides what a commit changes. It may be called by another goroutine
// than the one that commits, and several times, each time on a newer state: only
// its last run counts. It must be quick, and must not commit.
type Judge interface{ Judge(tx *Tx) error }

// JudgeFunc is a function that is a Judge.
type JudgeFunc func(tx *Tx) error

// Judge calls f.
func (f JudgeFunc) Judge(tx *Tx) error { return f(tx) }

// Commit asks judge when its turn comes and, if it returns nil, makes its
// changes. When Commit returns nil they are on the disk and visible. Whatever
// judge returns, Commit returns, and nothing is changed.
//
// Other errors: ErrClosed, ErrReadOnly, journal.ErrBusy, ErrNotStored,
// ErrUncertain, a *journal.DamageError.
func (l *Ledger) Commit(author entry.Author, judge func(*Tx) error) (Result, error) {
	return l.CommitWithin(0, author, JudgeFunc(judge))
}

// Do is Commit for a judge that has something to say, which Do gives back as
// its last run said it.
func Do[R any](l *Ledger, author entry.Author, judge func(*Tx) (R, error)) (said R, result Result, err error) {
	result, err = l.Commit(author, func(tx *Tx) (err error) {
		said, err = judge(tx)
		return err
	})
	return said, result, err
}

// CommitWithin is a prompt Commit: it returns when its changes are written and
// visible, and they are synced within the time given (0: before it returns).
// The end of the process does not undo them, a power cut before may.
func (l *Ledger) CommitWithin(within time.Duration, author entry.Author, judge Judge) (Result, error) {
	if l.opts.ReadOnly {
		return Result{}, ErrReadOnly
	}
	r := &request{author: author, within: within, judge: judge, came: time.Now()}
	lead, err := l.enqueue(r)
	if err != nil {
		return Result{}, err
	}
	for lead || <-r.turn {
		if l.lead(r) { // nobody but the one who led waits for it
			l.compactNow()
		}
		if lead = false; !r.again {
			break
		}
	}
	if r.panicked != nil {
		panic(r.panicked)
	}
	if r.err == nil && r.result.owes {
		r.result.Duty = l.settleDuty()
	}
	return r.result, r.err
}

func (l *Ledger) enqueue(r *request) (lead bool, err error) {
	l.qmu.Lock()
	defer l.qmu.Unlock()
	switch {
	case l.closing:
		return false, ErrClosed
	case len(l.queue) >= MaxQueue:
		return false, fmt.Errorf("%w: %d commits are waiting already", journal.ErrBusy, len(l.queue))
	}
	l.queue = append(l.queue, r)
	lead = !l.leading
	l.leading = true
	if !lead {
		r.turn = make(chan bool, 1)
	}
	if !lead && l.watch == nil {
		l.watch = time.AfterFunc(l.opts.Wait, l.expire)
	}
	return lead, nil
}

// expire refuses those in the queue whose time is over, and runs again when the
// next one's is.
func (l *Ledger) expire() {
	l.qmu.Lock()
	defer l.qmu.Unlock()
	l.watch = nil
	now, next := time.Now(), time.Time{}
	l.queue = slices.DeleteFunc(l.queue, func(r *request) bool {
		over := r.came.Add(l.opts.Wait)
		switch {
		case r == l.told: // it leads in a moment
		case !now.Before(over):
			r.err = fmt.Errorf("%w: the commits before this one took over %v", journal.ErrBusy, l.opts.Wait)
			r.turn <- false
			return true
		case next.IsZero() || over.Before(next):
			next = over
		}
		return false
	})
	if !next.IsZero() {
		l.watch = time.AfterFunc(next.Sub(now), l.expire)
	}
}

// left is how long a group may wait for the lock: until the time of the first
// of it is over.
func (l *Ledger) left(group []*request) time.Duration {
	oldest := group[0].came
	for _, r := range group {
		if r.came.Before(oldest) {
			oldest = r.came
		}
	}
	return max(l.opts.Wait-time.Since(oldest), 0)
}

// failed gives a group that could not begin its error; where the lock was not
// had in time, those who came later try again.
func (l *Ledger) failed(group []*request, err error) {
	busy := errors.Is(err, journal.ErrBusy)
	for _, r := range group {
		if r.again = busy && time.Since(r.came) < l.opts.Wait; !r.again {
			r.err = notStored(err)
		}
	}
}

// errEnded is given to a group whose leader's goroutine was ended by a judge.
var errEnded = fmt.Errorf("%w: the goroutine that wrote for all was ended", ErrNotStored)

// lead commits all that wait, then hands over to the first of those who came
// meanwhile: nobody leads for long. compact says that compactNow is to be called.
func (l *Ledger) lead(self *request) (compact bool) {
	l.gather()
	l.qmu.Lock()
	group := l.queue
	l.queue, l.spare, l.told = l.spare[:0], nil, nil // whoever leads next waits for the hand-over
	l.qmu.Unlock()
	for _, r := range group {
		r.again = false
	}

	whole := false
	var rest []*request
	defer func() { // also where what is called here ends this goroutine
		l.qmu.Lock()
		defer l.qmu.Unlock()
		l.spare = group
		compact = compact && !l.compacting
		l.compacting = l.compacting || compact
		if len(rest) > 0 {
			l.queue = append(rest, l.queue...)
			if l.watch == nil {
				l.watch = time.AfterFunc(l.left(rest), l.expire)
			}
		}
		if l.leading = len(l.queue) > 0; l.leading {
			l.told = l.queue[0]
			l.told.turn <- true
		}
	}()
	func() {
		defer func() { // also where a judge ends this goroutine
			for _, r := range group {
				if !whole {
					r.err, r.again = errEnded, false
				}
				if r.again {
					if r.turn == nil {
						r.turn = make(chan bool, 1)
					}
					rest = append(rest, r)
				} else if r != self {
					r.turn <- false
				}
			}
			clear(group)
		}()
		compact = l.commitGroup(group)
		whole = true
	}()
	return compact
}

// compactNow compacts the file if it still is to be, and ends what lead began.
func (l *Ledger) compactNow() {
	defer func() {
		l.qmu.Lock()
		defer l.qmu.Unlock()
		l.compacting = false
	}()
	l.compact()
}

// gather lets those join who were in the group before and come again now that
// it is done: it yields until the queue stops growing, at most for a quarter of
// a sync. A single caller waits for nobody.
func (l *Ledger) gather() {
	if l.lastGroup <= 1 { // written by the leader before, who handed over
		return
	}
	end := time.Now().Add(l.lastTook / 4)
	for n, same := l.Waiting(), 0; same < 16 && time.Now().Before(end); {
		runtime.Gosched()
		if now := l.Waiting(); now == n {
			same++
		} else {
			n, same = now, 0
		}
	}
}

// Waiting is how many commits wait for their turn.
func (l *Ledger) Waiting() int {
	l.qmu.Lock()
	defer l.qmu.Unlock()
	return len(l.queue)
}

// drain waits until nobody leads or compacts. No commit can join any more.
func (l *Ledger) drain() {
	for {
		l.qmu.Lock()
		idle := !l.leading && !l.compacting
		l.qmu.Unlock()
		if idle {
			return
		}
		time.Sleep(100 * time.Microsecond)
	}
}
