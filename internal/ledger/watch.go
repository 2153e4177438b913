package ledger

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/sorted"
)

// A Watcher is notified that something changed, not of what. The user then reads the newest state.
// It must be closed.
type Watcher struct {
	l        *Ledger
	names    map[string]bool // without names and prefixes: everything
	prefixes []string        // in order; none covers another
	wake     chan struct{}
}

// Watch returns a Watcher of names and prefixes; of everything if both are empty.
func (l *Ledger) Watch(names, prefixes []string) *Watcher {
	w := &Watcher{l: l, prefixes: Outermost(prefixes), wake: make(chan struct{}, 1), names: map[string]bool{}}
	for _, name := range names {
		w.names[name] = true
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.watchers.add(w)
	return w
}

// Outermost returns prefixes in order, without those that another one covers.
func Outermost(prefixes []string) []string {
	all := slices.Clone(prefixes)
	sorted.Strings(all)
	out := all[:0]
	for _, p := range all {
		if len(out) == 0 || !strings.HasPrefix(p, out[len(out)-1]) {
			out = append(out, p)
		}
	}
	return out
}

// Close ends the watching.
func (w *Watcher) Close() {
	w.l.mu.Lock()
	defer w.l.mu.Unlock()
	w.l.watchers.remove(w)
}

// Watchers returns the number of watchers.
func (s *state) Watchers() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.watchers.all)
}

// Wants reports whether a change of name concerns the watcher.
func (w *Watcher) Wants(name string) bool {
	if len(w.names) == 0 && len(w.prefixes) == 0 || w.names[name] {
		return true
	}
	// Only the last prefix up to the name can cover it.
	i, found := slices.BinarySearch(w.prefixes, name)
	return found || i > 0 && strings.HasPrefix(name, w.prefixes[i-1])
}

// watchers finds the watchers of a name at a cost that does not grow with their selections.
type watchers struct {
	all      map[*Watcher]bool
	every    map[*Watcher]bool // they watch everything
	names    map[string]map[*Watcher]bool
	prefixes map[string]map[*Watcher]bool
	lengths  map[int]int // how many prefixes have a length
}

func newWatchers() watchers {
	return watchers{all: map[*Watcher]bool{}, every: map[*Watcher]bool{}, names: map[string]map[*Watcher]bool{}, prefixes: map[string]map[*Watcher]bool{}, lengths: map[int]int{}}
}

func (ws *watchers) add(w *Watcher) {
	ws.all[w] = true
	if len(w.names) == 0 && len(w.prefixes) == 0 {
		ws.every[w] = true
	}
	put := func(m map[string]map[*Watcher]bool, key string) {
		if m[key] == nil {
			m[key] = map[*Watcher]bool{}
		}
		m[key][w] = true
	}
	for name := range w.names {
		put(ws.names, name)
	}
	for _, p := range w.prefixes {
		put(ws.prefixes, p)
		ws.lengths[len(p)]++
	}
}

func (ws *watchers) remove(w *Watcher) {
	if !ws.all[w] {
		return
	}
	delete(ws.all, w)
	delete(ws.every, w)
	take := func(m map[string]map[*Watcher]bool, key string) {
		if delete(m[key], w); len(m[key]) == 0 {
			delete(m, key)
		}
	}
	for name := range w.names {
		take(ws.names, name)
	}
	for _, p := range w.prefixes {
		take(ws.prefixes, p)
		if ws.lengths[len(p)]--; ws.lengths[len(p)] == 0 {
			delete(ws.lengths, len(p))
		}
	}
}

// tell notifies the watchers of a name.
func (ws *watchers) tell(name string) {
	notify := func(some map[*Watcher]bool) {
		for w := range some {
			w.tell()
		}
	}
	notify(ws.names[name])
	for n := range ws.lengths {
		if n <= len(name) {
			notify(ws.prefixes[name[:n]])
		}
	}
}

func (w *Watcher) tell() {
	select {
	case w.wake <- struct{}{}:
	default: // notified, and not read since
	}
}

// Wait waits until something has changed since the last Wait, or since Watch. It returns false when
// ctx, done or the ledger has ended. While waiting, it reads what other processes wrote.
func (w *Watcher) Wait(ctx context.Context, done <-chan struct{}) bool {
	var tick <-chan time.Time
	if every := w.l.followsEvery(); every > 0 {
		t := time.NewTicker(every)
		defer t.Stop()
		tick = t.C
	}
	for {
		select {
		case <-w.wake:
			return ctx.Err() == nil
		case <-ctx.Done():
			return false
		case <-done:
			return false
		case <-w.l.closed:
			return false
		case <-tick:
			if err := w.l.followIfDue(); err != nil {
				w.l.problem(err)
			}
		}
	}
}
