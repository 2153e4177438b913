package ledger

import (
	"context"
	"slices"
	"strings"
	"time"
)

// A Watcher is told that something changed, not what: who was told looks
// itself, and so always finds the newest. It must be closed.
type Watcher struct {
	l        *Ledger
	names    []string // none and no prefix: all
	prefixes []string
	wake     chan struct{}
}

// Watch gives a Watcher of these names and prefixes; of everything where both
// are empty.
func (l *Ledger) Watch(names, prefixes []string) *Watcher {
	w := &Watcher{l: l, names: names, prefixes: prefixes, wake: make(chan struct{}, 1)}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.watchers[w] = struct{}{}
	return w
}

// Close ends the watching.
func (w *Watcher) Close() {
	w.l.mu.Lock()
	defer w.l.mu.Unlock()
	delete(w.l.watchers, w)
}

// Watchers is how many there are.
func (l *Ledger) Watchers() int {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return len(l.watchers)
}

// Wants says whether a change of name concerns the watcher.
func (w *Watcher) Wants(name string) bool {
	if len(w.names) == 0 && len(w.prefixes) == 0 {
		return true
	}
	return slices.Contains(w.names, name) ||
		slices.ContainsFunc(w.prefixes, func(p string) bool { return strings.HasPrefix(name, p) })
}

func (w *Watcher) tell() {
	select {
	case w.wake <- struct{}{}:
	default: // it has not looked since it was told
	}
}

// Wait waits until something changed since the last Wait, or since Watch; it
// is false when ctx, done or the ledger ended. While it waits, it looks for
// what other processes wrote.
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
