package admission

import (
	"context"
	"slices"
	"sync"
	"time"
)

// A Gate lets a few requests work at the same time and queues others. It is safe for concurrent use.
type Gate struct {
	pool     *Pool
	perLink  int // how many can wait
	patience time.Duration

	mu      sync.Mutex     // guards the following fields
	waiting []*waiter      // in order of arrival
	queued  map[string]int // by link
}

type waiter struct {
	hold *Hold
	in   chan struct{} // closed when it may work
}

// NewGate returns a Gate with the bounds of a Pool of slots. At most perLink requests of a link wait,
// each at most for patience.
func NewGate(b Bounds, perLink int, patience time.Duration) *Gate {
	return &Gate{pool: NewPool(b), perLink: perLink, patience: patience, queued: map[string]int{}}
}

// Enter waits for a slot, which leave releases. Earlier requests of the same link go first. The error
// is a *FullError if too many wait or the wait takes too long, and that of ctx.
func (g *Gate) Enter(ctx context.Context, who Who) (leave func(), err error) {
	w := &waiter{hold: g.pool.Hold(who), in: make(chan struct{})}
	g.mu.Lock()
	if g.queued[who.Link] == 0 && w.hold.Grow(1) == nil {
		g.mu.Unlock()
		return func() { g.leave(w) }, nil
	}
	if g.queued[who.Link] >= g.perLink {
		g.mu.Unlock()
		return nil, &FullError{Link}
	}
	g.waiting = append(g.waiting, w)
	g.queued[who.Link]++
	g.mu.Unlock()
	timer := time.NewTimer(g.patience)
	defer timer.Stop()
	select {
	case <-w.in:
		return func() { g.leave(w) }, nil
	case <-timer.C:
		err = &FullError{Server}
	case <-ctx.Done():
		err = ctx.Err()
	}
	if g.cancel(w) {
		return nil, err
	}
	g.leave(w) // it got its slot in this moment
	return nil, err
}

// cancel removes a waiter, unless it has its slot.
func (g *Gate) cancel(w *waiter) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	i := slices.Index(g.waiting, w)
	if i < 0 {
		return false
	}
	g.waiting = slices.Delete(g.waiting, i, i+1)
	g.unqueue(w)
	return true
}

func (g *Gate) unqueue(w *waiter) {
	link := w.hold.who.Link
	if g.queued[link]--; g.queued[link] == 0 {
		delete(g.queued, link)
	}
}

// leave releases a slot, and admits every waiter that now finds room. A waiter whose share is used
// up does not hold up those of others.
func (g *Gate) leave(w *waiter) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w.hold.Release()
	left := g.waiting[:0]
	for _, one := range g.waiting {
		if one.hold.Grow(1) != nil {
			left = append(left, one)
			continue
		}
		g.unqueue(one)
		close(one.in)
	}
	clear(g.waiting[len(left):])
	g.waiting = left
}
