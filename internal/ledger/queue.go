package ledger

import (
	"fmt"
	"runtime"
	"sync"
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
	turn   chan bool // true: lead the next group; false: it is done
	halves int       // how many halves of the wait have ended while it was queued

	result   Result
	err      error
	panicked any
}

// requests are those that nobody uses. Whoever led a group touches a request
// for the last time when it sends on turn.
var requests = sync.Pool{New: func() any { return &request{turn: make(chan bool, 1)} }}

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
	r := requests.Get().(*request)
	*r = request{author: author, within: within, judge: judge, turn: r.turn}
	lead, err := l.enqueue(r)
	if err != nil {
		return Result{}, err
	}
	if lead || <-r.turn {
		l.lead(r)
	}
	result, err, panicked := r.result, r.err, r.panicked
	*r = request{turn: r.turn}
	requests.Put(r)
	if panicked != nil {
		panic(panicked)
	}
	return result, err
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
	if !lead && l.watch == nil {
		l.watch = time.AfterFunc(l.opts.Wait/2, l.expire)
	}
	return lead, nil
}

// expire runs at every half of the wait while commits queue, and takes out
// those that nobody has taken by the second time.
func (l *Ledger) expire() {
	l.qmu.Lock()
	defer l.qmu.Unlock()
	if l.watch = nil; len(l.queue) == 0 {
		return
	}
	// The first may have been told to lead already.
	kept := l.queue[:1]
	for _, r := range l.queue[1:] {
		if r.halves++; r.halves < 2 {
			kept = append(kept, r)
			continue
		}
		r.err = fmt.Errorf("%w: the commits before this one took over %v", journal.ErrBusy, l.opts.Wait/2)
		r.turn <- false
	}
	l.queue = kept
	l.watch = time.AfterFunc(l.opts.Wait/2, l.expire)
}

// lead commits all that wait, then hands over to the first of those who came
// meanwhile: nobody leads for long.
func (l *Ledger) lead(self *request) {
	l.gather()
	l.qmu.Lock()
	group := l.queue
	l.queue, l.spare = l.spare[:0], nil // whoever leads next waits for the hand-over
	l.qmu.Unlock()

	l.commitGroup(group)

	for _, r := range group {
		if r != self {
			r.turn <- false
		}
	}
	clear(group)
	l.qmu.Lock()
	l.spare = group
	if len(l.queue) > 0 {
		l.queue[0].turn <- true
	} else {
		l.leading = false
	}
	l.qmu.Unlock()
}

// gather lets those join who were in the group before and come again now that
// it is done: it yields until the queue stops growing, at most for a quarter of
// a sync. A single caller waits for nobody.
func (l *Ledger) gather() {
	if l.lastGroup <= 1 { // written by the leader before, who handed over
		return
	}
	end := time.Now().Add(l.lastSync / 4)
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

// drain waits until nobody leads. No commit can join any more.
func (l *Ledger) drain() {
	for {
		l.qmu.Lock()
		idle := !l.leading
		l.qmu.Unlock()
		if idle {
			return
		}
		time.Sleep(100 * time.Microsecond)
	}
}
