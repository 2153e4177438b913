package ledger

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
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

// A queue combines the commits of many callers into groups. One caller at a time leads: it commits the
// waiting requests for all.
type queue struct {
	wait    time.Duration                     // how long a request can wait
	commit  func(group []*request) (due bool) // due: the file should be compacted
	compact func()

	mu         sync.Mutex // guards the following fields
	waiting    []*request
	leading    bool
	nextLeader *request    // leads next, and is still waiting
	watch      *time.Timer // runs expire; nil if no request waits
	closing    bool
	compacting bool // a compaction is in progress or about to start

	// Used by the leader only.
	last int           // how many commits shared the last sync
	took time.Duration // how long it took
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
	if err := l.queue.do(r); err != nil {
		return Result{}, err
	}
	if r.panicked != nil {
		panic(r.panicked)
	}
	if r.err == nil && r.result.owes {
		r.result.Duty = l.settleDuty()
	}
	return r.result, r.err
}

// do queues a request and returns once it is done.
func (q *queue) do(r *request) error {
	lead, err := q.enqueue(r)
	if err != nil {
		return err
	}
	for lead || <-r.turn {
		if q.lead(r) { // only the leader waits for it
			q.compactNow()
		}
		if lead = false; !r.retry {
			break
		}
	}
	return nil
}

func (q *queue) enqueue(r *request) (lead bool, err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	switch {
	case q.closing:
		return false, ErrClosed
	case len(q.waiting) >= MaxQueue:
		return false, fmt.Errorf("%w: %d commits are waiting already", journal.ErrBusy, len(q.waiting))
	}
	q.waiting = append(q.waiting, r)
	lead = !q.leading
	q.leading = true
	if !lead {
		r.turn = make(chan bool, 1)
	}
	if !lead && q.watch == nil {
		q.watch = time.AfterFunc(q.wait, q.expire)
	}
	return lead, nil
}

// expire removes requests that have waited too long, and runs again for the next one.
func (q *queue) expire() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.watch = nil
	now, next := time.Now(), time.Time{}
	q.waiting = slices.DeleteFunc(q.waiting, func(r *request) bool {
		over := r.queuedAt.Add(q.wait)
		switch {
		case r == q.nextLeader, r.turn == nil: // it is about to run, or leads; it must not expire now
		case !now.Before(over):
			r.err = fmt.Errorf("%w: the commits before this one took over %v", journal.ErrBusy, q.wait)
			r.turn <- false
			return true
		case next.IsZero() || over.Before(next):
			next = over
		}
		return false
	})
	if !next.IsZero() {
		q.watch = time.AfterFunc(next.Sub(now), q.expire)
	}
}

// left returns how long a group may wait for the lock: until its oldest request expires.
func (q *queue) left(group []*request) time.Duration {
	oldest := group[0].queuedAt
	for _, r := range group {
		if r.queuedAt.Before(oldest) {
			oldest = r.queuedAt
		}
	}
	return max(q.wait-time.Since(oldest), 0)
}

// failed sets the error of a group that could not begin. If it did not get the lock in time, later
// requests try again.
func (q *queue) failed(group []*request, err error) {
	busy := errors.Is(err, journal.ErrBusy)
	for _, r := range group {
		if r.retry = busy && time.Since(r.queuedAt) < q.wait; !r.retry {
			r.err = notStored(err)
		}
	}
}

// errEnded is the error of a group whose leader's goroutine was ended by a judge.
var errEnded = fmt.Errorf("%w: the goroutine that wrote for all was ended", ErrNotStored)

// lead commits the waiting requests, then hands over to the first of those that queued meanwhile,
// so no caller leads for long. compact reports whether the caller must call compactNow.
func (q *queue) lead(self *request) (compact bool) {
	q.gather()
	q.mu.Lock()
	group := q.waiting
	q.waiting, q.nextLeader = nil, nil // the next leader waits for the hand-over
	q.mu.Unlock()
	for _, r := range group {
		r.retry = false
	}

	whole := false
	var rest []*request
	defer func() { // also if a judge ends this goroutine
		q.mu.Lock()
		defer q.mu.Unlock()
		compact = compact && !q.compacting
		q.compacting = q.compacting || compact
		if len(rest) > 0 {
			q.waiting = append(rest, q.waiting...)
			if q.watch == nil {
				q.watch = time.AfterFunc(q.left(rest), q.expire)
			}
		}
		if q.leading = len(q.waiting) > 0; q.leading {
			q.nextLeader = q.waiting[0]
			q.nextLeader.turn <- true
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
		}()
		compact = q.commit(group)
		q.last = len(group)
		whole = true
	}()
	return compact
}

// compactNow compacts the file if that is still needed, and clears compacting.
func (q *queue) compactNow() {
	defer func() {
		q.mu.Lock()
		defer q.mu.Unlock()
		q.compacting = false
	}()
	q.compact()
}

// gather lets the callers of the last group join again: it yields until the queue stops growing, at
// most for a quarter of a sync. A single caller does not wait.
func (q *queue) gather() {
	if q.last <= 1 { // written by the previous leader, before the hand-over
		return
	}
	end := time.Now().Add(q.took / 4)
	for n, same := q.length(), 0; same < 16 && time.Now().Before(end); {
		runtime.Gosched()
		if now := q.length(); now == n {
			same++
		} else {
			n, same = now, 0
		}
	}
}

// Waiting returns the number of queued commits.
func (l *Ledger) Waiting() int { return l.queue.length() }

func (q *queue) length() int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return len(q.waiting)
}

// drain waits until no caller leads or compacts. No commit can join any more.
func (q *queue) drain() {
	for {
		q.mu.Lock()
		idle := !q.leading && !q.compacting
		q.mu.Unlock()
		if idle {
			return
		}
		time.Sleep(100 * time.Microsecond)
	}
}
