package board

import (
	"context"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A node is a name's place in a Board. It stays as long as the Board is open.
type node struct {
	name  string
	state atomic.Pointer[remote]
}

// A remote is what is known of a name on the server. It never changes.
type remote struct {
	entry   Entry // without a value: absent
	known   bool  // the server has told of it
	stale   bool  // the newest poll failed
	sending int   // writes under way
	refused error // the newest write was refused
}

// node gives the node of a name. A name that is new to the board is asked for
// as soon as possible.
func (b *Board) node(name string) *node {
	b.mu.Lock()
	n := b.nodeLocked(name)
	b.mu.Unlock()
	b.start()
	return n
}

// nodeLocked: mu must be held.
func (b *Board) nodeLocked(name string) *node {
	n := b.nodes[name]
	if n == nil {
		n = b.addNode(name)
		if b.view.bind(name); !b.view.all {
			b.pollNow()
		} else if e, known := b.view.entries[name]; known {
			n.state.Store(&remote{entry: e, known: true})
		} else if b.allKnown() {
			n.state.Store(&remote{entry: Entry{Name: name}, known: true})
		}
	}
	return n
}

// addNode adds a node of which nothing is known; mu must be held.
func (b *Board) addNode(name string) *node {
	n := &node{name: name}
	n.state.Store(&remote{entry: Entry{Name: name}})
	b.nodes[name] = n
	return n
}

// allKnown says whether the server has told of everything; mu must be held.
func (b *Board) allKnown() bool { return b.view.all && b.view.mark != mark.Mark{} }

// askForAll has the next poll, which is sent at once, ask for all that is
// wanted and not only for what changed; mu must be held.
func (b *Board) askForAll() {
	b.view.anew()
	b.pollNow()
}

// take takes in an answer; mu must be held.
func (b *Board) take(a asking, p *wire.Page) (changed []string, fresh bool, err error) {
	changed, fresh, err = b.view.take(a, p)
	for _, name := range changed {
		e, n := b.view.entries[name], b.nodes[name]
		if n == nil {
			n = b.addNode(name)
		}
		b.alter(n, func(r *remote) {
			if e.Version != r.entry.Version {
				r.refused = nil // what was refused is over
			}
			r.entry, r.known, r.stale = e, true, false
		})
	}
	return changed, fresh, err
}

// alter changes what is known of a name, and tells who watches it if that
// shows; mu must be held.
func (b *Board) alter(n *node, f func(*remote)) {
	old := n.state.Load()
	now := *old
	f(&now)
	if now.entry.Version == old.entry.Version && now.entry.From == old.entry.From && value.Equal(now.entry.Value, old.entry.Value) &&
		now.known == old.known && now.stale == old.stale && now.sending == old.sending && now.refused == old.refused {
		return
	}
	n.state.Store(&now)
	for w := range b.watchers {
		if w.wants(n.name) {
			w.tell(n.name)
		}
	}
}

// A watcher collects which names changed until its body asks. changed is
// guarded by Board.mu.
type watcher struct {
	names    []string
	prefixes []string
	changed  []string
	wake     chan struct{}
}

func (w *watcher) wants(name string) bool {
	return slices.Contains(w.names, name) ||
		slices.ContainsFunc(w.prefixes, func(p string) bool { return strings.HasPrefix(name, p) })
}

// watch gives a watcher of names, whose nodes it makes, and of all that begins
// with one of prefixes.
func (b *Board) watch(names, prefixes []string) *watcher {
	w := &watcher{names: names, prefixes: prefixes, wake: make(chan struct{}, 1)}
	b.mu.Lock()
	for _, name := range names {
		b.nodeLocked(name)
	}
	if len(prefixes) > 0 && !b.view.all {
		b.view.bindAll()
		b.pollNow()
	}
	b.watchers[w] = struct{}{}
	b.mu.Unlock()
	b.start()
	return w
}

func (b *Board) unwatch(w *watcher) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.watchers, w)
}

// tell: Board.mu must be held. No name means that there was an answer.
func (w *watcher) tell(name string) {
	if name != "" && !slices.Contains(w.changed, name) {
		w.changed = append(w.changed, name)
	}
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

func (b *Board) changedFor(w *watcher) []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	changed := w.changed
	w.changed = nil
	slices.Sort(changed)
	return changed
}

// settled says whether the server has told of all that w watches.
func (b *Board) settled(w *watcher) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(w.prefixes) > 0 && !b.allKnown() {
		return false
	}
	for _, name := range w.names {
		if !b.nodes[name].state.Load().known {
			return false
		}
	}
	return true
}

func (w *watcher) wait(ctx, open context.Context) bool {
	select {
	case <-w.wake:
		return ctx.Err() == nil && open.Err() == nil
	case <-ctx.Done():
		return false
	case <-open.Done():
		return false
	}
}
