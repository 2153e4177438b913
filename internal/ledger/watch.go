package ledger

import (
	"context"
	"slices"
	"strings"
	"time"
)

// A Watcher is notified that something changed, not of what. The user then reads the newest state.
// It must be closed.
type Watcher struct {
	l        *Ledger
	names    []string // without names and prefixes: everything
	prefixes []string
	wake     chan struct{}
}

// Watch returns a Watcher of names and prefixes; of everything if both are empty.
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

// Watchers returns the number of watchers.
func (l *Ledger) Watchers() int {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return len(l.watchers)
}

// Wants reports whether a change of name concerns the watcher.
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
