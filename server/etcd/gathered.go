package etcd

import "sync"

// Gathered runs what comes at the same time together: a run has all that waited when it
// began, up to most of it, and whoever comes later is in a later one.
type gathered[T sized] struct {
	run  func([]T)
	most int

	mu      sync.Mutex // guards what follows
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

// next begins a run, where there is room for one; mu must be held.
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
