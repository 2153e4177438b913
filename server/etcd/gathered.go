package etcd

import "sync"

// Gathered runs calls that arrive at the same time together. A run takes what waited when it began,
// up to most; later calls are in a later run.
type gathered[T sized] struct {
	run  func([]T)
	most int

	mu      sync.Mutex // guards the following fields
	waiting []T
	runs    int
}

type sized interface{ bytes() int }

func (g *gathered[T]) add(one T) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.waiting = append(g.waiting, one)
	g.next()
}

// next begins a run if one can begin; mu must be held.
func (g *gathered[T]) next() {
	if g.runs >= underWay || len(g.waiting) == 0 {
		return
	}
	n, bytes := 0, 0
	for n < len(g.waiting) && n < g.most && (n == 0 || bytes+g.waiting[n].bytes() <= together) {
		bytes += g.waiting[n].bytes()
		n++
	}
	some := g.waiting[:n:n]
	if g.waiting = g.waiting[n:]; len(g.waiting) == 0 {
		g.waiting = nil
	}
	g.runs++
	go func() {
		g.run(some)
		g.mu.Lock()
		defer g.mu.Unlock()
		g.runs--
		g.next()
	}()
}
