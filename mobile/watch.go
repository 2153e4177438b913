package mobile

import (
	"context"
	"sync"
	"sync/atomic"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
)

// A Runner runs tasks for an app: it calls the task's Run, once, later, on the thread that draws.
type Runner interface{ Post(t *Task) }

// A Handler is called after changes. It reads the new values itself.
type Handler interface{ Changed() }

// A Task is what a Runner runs.
type Task struct{ f func() }

// Run runs the task.
func (t *Task) Run() {
	if t != nil && t.f != nil {
		t.f()
	}
}

// A Watching continues until Stop, or until the namespace is closed.
type Watching struct {
	stop func()
	over atomic.Bool
}

// Stop ends it. A task that was posted before does nothing.
func (w *Watching) Stop() {
	if w != nil && w.stop != nil {
		w.over.Store(true)
		w.stop()
	}
}

// WatchChanges serves package boards: it calls a handler through a runner after changes.
func WatchChanges(r Runner, h Handler, changes handover.Changes) (*Watching, error) {
	if r == nil || h == nil {
		return nil, handover.Misuse("a watch needs a runner and a handler")
	}
	ctx, stop := context.WithCancel(context.Background())
	w := &Watching{stop: stop}
	var waits atomic.Bool // a task was posted, and has not begun
	var one sync.Mutex    // so that handlers run one after the other with any Runner
	go func() {
		for range changes(ctx) {
			if !waits.CompareAndSwap(false, true) {
				continue // it will read the newest values
			}
			r.Post(&Task{func() {
				one.Lock()
				defer one.Unlock()
				if waits.Store(false); !w.over.Load() {
					h.Changed()
				}
			}})
		}
	}()
	return w, nil
}

// A ProblemHandler is called with problems: the name, if it is about one, and what went wrong.
type ProblemHandler interface{ Problem(name, what string) }

// PassProblems serves package boards: it returns a function that passes problems to a handler through
// a runner, in the form that coded returns.
func PassProblems(r Runner, h ProblemHandler, coded func(error) error) (func(pantry.Problem), error) {
	if r == nil || h == nil {
		return nil, handover.Misuse("OnProblem needs a runner and a handler")
	}
	return func(p pantry.Problem) {
		text := coded(p.Err).Error()
		r.Post(&Task{func() { h.Problem(p.Name, text) }})
	}, nil
}
