package board

import (
	"context"
	"sync"
)

// tasks are the goroutines of a Board. They are safe for concurrent use.
type tasks struct {
	mu    sync.Mutex // guards ended
	ended bool
	group sync.WaitGroup
}

// start runs f in a goroutine, and reports whether it does: not after end.
func (t *tasks) start(f func()) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.ended {
		t.group.Go(f)
	}
	return !t.ended
}

// end calls cancel, which must make all goroutines return, and waits for them. It reports whether it is
// the first call.
func (t *tasks) end(cancel context.CancelFunc) (first bool) {
	t.mu.Lock()
	first = !t.ended
	t.ended = true
	cancel()
	t.mu.Unlock()
	t.group.Wait()
	return first
}
