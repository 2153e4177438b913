package etcd

import "sync"

// Gathered runs calls that arrive at the same time together. A run takes what waited when it began,
// up to most; later calls, and those of a subject that the run has already, are in a later run.
type gathered[T sized] struct {
	run  func([]T)
	most int

	mu      sync.Mutex // guards the following fields
	waiting []T
	runs    int
}

type sized interface {
	bytes() int
	subject() string // no two of a run have the same
}

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
	var some, later []T
	bytes, has := 0, make(map[string]bool, min(len(g.waiting), g.most))
	for i, one := range g.waiting {
		if len(some) >= g.most || len(some) > 0 && bytes+one.bytes() > together {
			later = append(later, g.waiting[i:]...)
			break
		}
		if has[one.subject()] {
			later = append(later, one)
			continue
		}
		has[one.subject()] = true
		bytes += one.bytes()
		some = append(some, one)
	}
	g.waiting = later
	g.runs++
	go func() {
		g.run(some)
		g.mu.Lock()
		defer g.mu.Unlock()
		g.runs--
		g.next()
	}()
}
