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

// MaxQueue is the number of commits that can wait in one process.
const MaxQueue = 10_000

// A request is a commit in the queue.
type request struct {
	author   entry.Author
	within   time.Duration // above 0: a prompt commit, synced within that time
	judge    Judge
	turn     chan bool // true: lead the next group; false: done. nil until the request waits
	queuedAt time.Time // when it queued
	retry    bool      // its group did not get the lock, and it still has time

	result   Result
	err      error
	panicked any
}

// A Judge decides what a commit changes. Another goroutine than the caller of Commit can run it,
// several times, each time on a newer state. Only its last run counts. It must be quick and must
// not commit.
type Judge interface{ Judge(tx *Tx) error }

// JudgeFunc is a function that is a Judge.
type JudgeFunc func(tx *Tx) error

// Judge calls f.
func (f JudgeFunc) Judge(tx *Tx) error { return f(tx) }

// Commit calls judge and, if it returns nil, stores its changes. When Commit returns nil they are
// on disk and visible. If judge returns an error, Commit returns it and changes nothing.
//
// Other errors: ErrClosed, ErrReadOnly, journal.ErrBusy, ErrNotStored, ErrUncertain, a
// *journal.DamageError.
func (l *Ledger) Commit(author entry.Author, judge func(*Tx) error) (Result, error) {
	return l.CommitWithin(0, author, JudgeFunc(judge))
}

// Do is Commit for a judge with a result. Do returns the result of its last run.
func Do[R any](l *Ledger, author entry.Author, judge func(*Tx) (R, error)) (said R, result Result, err error) {
	result, err = l.Commit(author, func(tx *Tx) (err error) {
		said, err = judge(tx)
		return err
	})
	return said, result, err
}

// CommitWithin evaluates judge and commits its changes. It returns once the changes are written and
// visible. They are synced within the given time; 0 means before it returns. A crash of the process
// does not undo them. A power cut before the sync can.
func (l *Ledger) CommitWithin(within time.Duration, author entry.Author, judge Judge) (Result, error) {
	if l.opts.ReadOnly {
		return Result{}, ErrReadOnly
	}
	r := &request{author: author, within: within, judge: judge, queuedAt: time.Now()}
	lead, err := l.enqueue(r)
	if err != nil {
		return Result{}, err
	}
	for lead || <-r.turn {
		if l.lead(r) { // only the leader waits for it
			l.compactNow()
		}
		if lead = false; !r.retry {
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

// expire removes requests that have waited too long, and runs again for the next one.
func (l *Ledger) expire() {
	l.qmu.Lock()
	defer l.qmu.Unlock()
	l.watch = nil
	now, next := time.Now(), time.Time{}
	l.queue = slices.DeleteFunc(l.queue, func(r *request) bool {
		over := r.queuedAt.Add(l.opts.Wait)
		switch {
		case r == l.nextLeader, r.turn == nil: // it is about to run, or leads; it must not expire now
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

// left returns how long a group may wait for the lock: until its oldest request expires.
func (l *Ledger) left(group []*request) time.Duration {
	oldest := group[0].queuedAt
	for _, r := range group {
		if r.queuedAt.Before(oldest) {
			oldest = r.queuedAt
		}
	}
	return max(l.opts.Wait-time.Since(oldest), 0)
}

// failed sets the error of a group that could not begin. If it did not get the lock in time, later
// requests try again.
func (l *Ledger) failed(group []*request, err error) {
	busy := errors.Is(err, journal.ErrBusy)
	for _, r := range group {
		if r.retry = busy && time.Since(r.queuedAt) < l.opts.Wait; !r.retry {
			r.err = notStored(err)
		}
	}
}

// errEnded is the error of a group whose leader's goroutine was ended by a judge.
var errEnded = fmt.Errorf("%w: the goroutine that wrote for all was ended", ErrNotStored)

// lead commits the waiting requests, then hands over to the first of those that queued meanwhile,
// so no caller leads for long. compact reports whether the caller must call compactNow.
func (l *Ledger) lead(self *request) (compact bool) {
	l.gather()
	l.qmu.Lock()
	group := l.queue
	l.queue, l.spare, l.nextLeader = l.spare[:0], nil, nil // the next leader waits for the hand-over
	l.qmu.Unlock()
	for _, r := range group {
		r.retry = false
	}

	whole := false
	var rest []*request
	defer func() { // also if a judge ends this goroutine
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
			l.nextLeader = l.queue[0]
			l.nextLeader.turn <- true
		}
	}()
	func() {
		defer func() { // also if a judge ends this goroutine
			for _, r := range group {
				if !whole {
					r.err, r.retry = errEnded, false
				}
				if r.retry {
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

// compactNow compacts the file if that is still needed, and clears compacting.
func (l *Ledger) compactNow() {
	defer func() {
		l.qmu.Lock()
		defer l.qmu.Unlock()
		l.compacting = false
	}()
	l.compact()
}

// gather lets the callers of the last group join again: it yields until the queue stops growing, at
// most for a quarter of a sync. A single caller does not wait.
func (l *Ledger) gather() {
	if l.lastGroup <= 1 { // written by the previous leader, before the hand-over
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

// Waiting returns the number of queued commits.
func (l *Ledger) Waiting() int {
	l.qmu.Lock()
	defer l.qmu.Unlock()
	return len(l.queue)
}

// drain waits until no caller leads or compacts. No commit can join any more.
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
