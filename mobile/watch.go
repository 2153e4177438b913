package mobile

import (
	"context"
	"iter"
	"sync"
	"sync/atomic"

	"github.com/small-pantry/pantry"
)

// A Runner runs tasks where an app wants them: it calls the task's Run, once, later, on the
// thread that draws.
type Runner interface{ Post(t *Task) }

// A Handler hears that something changed, and looks itself.
type Handler interface{ Changed() }

// A Task is what a Runner runs.
type Task struct{ f func() }

// Run does it.
func (t *Task) Run() {
	if t != nil && t.f != nil {
		t.f()
	}
}

// Watching goes on until Stop, or until the namespace is closed.
type Watching struct {
	stop func()
	over atomic.Bool
}

// Stop ends it. A task that was posted before does nothing any more.
func (w *Watching) Stop() {
	if w != nil && w.stop != nil {
		w.over.Store(true)
		w.stop()
	}
}

func watch(r Runner, h Handler, changes func(ctx context.Context) iter.Seq[struct{}]) (*Watching, error) {
	if r == nil || h == nil {
		return nil, misuse("watching takes a runner and a handler")
	}
	ctx, stop := context.WithCancel(context.Background())
	w := &Watching{stop: stop}
	var waits atomic.Bool // a task was posted, and did not begin
	var one sync.Mutex    // so that handlers run one after the other, whatever a Runner does
	go func() {
		for range changes(ctx) {
			if !waits.CompareAndSwap(false, true) {
				continue // it will look at what is newest
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

// A ProblemHandler hears of problems: about which name, if about one, and what.
type ProblemHandler interface{ Problem(name, what string) }

// problems tells of problems through a runner, in words that told gives.
func problems(r Runner, h ProblemHandler, told func(error) error) (func(pantry.Problem), error) {
	if r == nil || h == nil {
		return nil, misuse("OnProblem takes a runner and a handler")
	}
	return func(p pantry.Problem) {
		text := told(p.Err).Error()
		r.Post(&Task{func() { h.Problem(p.Name, text) }})
	}, nil
}
