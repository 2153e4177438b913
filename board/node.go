package board

import (
	"context"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unsafe"
	"weak"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/slot"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A node holds what is known of a name on a Board. The node of a variable stays as long as the
// Board is open; others stay as long as somebody watches them.
type node struct {
	name  string
	bound bool // it belongs to a variable; guarded by Board.mu
	// check is the key's own Check on a stored value, if it has one; guarded by Board.mu.
	check func(value.Value) error
	state atomic.Pointer[remote]

	mu    sync.Mutex // guards slots, and orders their use with changes of state
	slots []weak.Pointer[slot.Slot]
}

// maxSlots is how many slots a node fills. Further variables look at the state.
const maxSlots = 16

// keep fills the slot of a variable with its value, if r is still the newest state.
func (n *node) keep(s *slot.Slot, r *remote, p unsafe.Pointer) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.state.Load() != r {
		return
	}
	w := weak.Make(s)
	if !slices.Contains(n.slots, w) {
		if len(n.slots) == maxSlots {
			n.slots = slices.DeleteFunc(n.slots, func(w weak.Pointer[slot.Slot]) bool { return w.Value() == nil })
		}
		if len(n.slots) == maxSlots {
			return
		}
		n.slots = append(n.slots, w)
	}
	s.Fill(p)
}

// publish makes a state the newest one.
func (n *node) publish(r *remote) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, w := range n.slots {
		if s := w.Value(); s != nil {
			s.Empty()
		}
	}
	n.state.Store(r)
}

// A remote is what is known of a name on the server. It is immutable.
type remote struct {
	entry   Entry // without a value: absent
	known   bool  // the server has answered for it
	old     bool  // in an earlier launch, and not in this one
	away    error // why the newest attempt to reach the server failed; nil if it did not
	sending int   // writes that are being sent
	queued  int   // writes that wait to be sent
	refused error // the newest write was refused
	kept    bool  // it was queued, and is kept until it is retried or discarded
}

// node returns the node of a variable. A name that is new to the board is requested as soon as
// possible.
func (b *Board) node(name string) *node {
	b.mu.Lock()
	n := b.nodeLocked(name)
	n.bound = true
	b.mu.Unlock()
	b.start()
	return n
}

// nodeLocked returns the node of a name that is requested from now on; mu must be held.
func (b *Board) nodeLocked(name string) *node {
	n := b.nodes[name]
	if n == nil {
		n = b.addNode(name)
	}
	if b.view.names[name] {
		return n
	}
	covered := b.view.covers(name)
	if b.view.bind(name); !covered {
		b.askNow()
	} else if e, known := b.view.entries[name]; known {
		b.alter(n, func(r *remote) { r.entry, r.known, r.old = e, true, false })
	} else if b.view.mark != (mark.Mark{}) { // everything is known, and nothing of this name
		b.alter(n, func(r *remote) { r.known, r.old = true, false })
	}
	return n
}

// addNode adds a node, with what is known from an earlier launch; mu must be held.
func (b *Board) addNode(name string) *node {
	n := &node{name: name}
	r := &remote{entry: Entry{Name: name}, away: b.status.Err}
	if b.outbox != nil {
		r.queued, r.refused = b.outbox.about(b, name)
		r.kept = r.refused != nil
		if e, found := b.outbox.known(name); found {
			r.entry, r.known, r.old = e, true, true
		}
	}
	n.publish(r)
	b.nodes[name] = n
	return n
}

// seed shows what is known of names with a prefix from an earlier launch; mu must be held.
func (b *Board) seed(prefix string) {
	if b.outbox == nil {
		return
	}
	for _, name := range b.outbox.knownUnder(prefix) {
		if b.nodes[name] == nil {
			b.addNode(name)
		}
	}
}

// askForAll makes the next question, which is sent at once, request everything instead of changes;
// mu must be held.
func (b *Board) askForAll() {
	b.view.forgetMark()
	b.askNow()
}

// take updates the view with an answer; mu must be held.
func (b *Board) take(a asking, p *wire.Page) (changed []string, fresh bool, err error) {
	changed, fresh, err = b.view.take(a, p)
	for _, name := range changed {
		e, n := b.view.entries[name], b.nodes[name]
		if n == nil {
			n = b.addNode(name)
		}
		b.alter(n, func(r *remote) {
			if e.Version != r.entry.Version && !r.kept {
				r.refused = nil // a new value ends Refused
			}
			r.entry, r.known, r.old, r.away = e, true, false, nil
		})
	}
	if p.Whole && fresh && err == nil { // an earlier launch knew it, and the server does not have it
		for name, n := range b.nodes {
			if _, told := b.view.entries[name]; !told && b.view.has(name) && n.state.Load().old {
				b.alter(n, func(r *remote) { r.entry, r.known, r.old = Entry{Name: name}, true, false })
			}
		}
	}
	if b.outbox != nil {
		b.outbox.learn(changed, b.view.entries)
	}
	return changed, fresh, err
}

// alter changes what is known of a name, and wakes its watchers if that is visible; mu must be
// held.
func (b *Board) alter(n *node, f func(*remote)) {
	old := n.state.Load()
	now := *old
	f(&now)
	if now.entry.Version == old.entry.Version && now.entry.From == old.entry.From && value.Equal(now.entry.Value, old.entry.Value) &&
		now.known == old.known && now.old == old.old && now.away == old.away && now.sending == old.sending && now.queued == old.queued && now.refused == old.refused {
		return
	}
	n.publish(&now)
	for w := range b.watchers {
		if w.wants(n.name) {
			w.tell(n.name)
		}
	}
}

// A watcher collects the names that changed until its body asks. changed is guarded by Board.mu.
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

// watch returns a watcher of names, whose nodes it makes, and of everything that begins with one of
// the prefixes.
func (b *Board) watch(names, prefixes []string) *watcher {
	w := &watcher{names: names, prefixes: prefixes, wake: make(chan struct{}, 1)}
	b.mu.Lock()
	for _, name := range names {
		b.nodeLocked(name).bound = true
	}
	for _, p := range prefixes {
		b.seed(p)
		covered := b.view.covers(p)
		if b.view.bindPrefix(p); !covered {
			b.askNow()
		}
	}
	b.watchers[w] = struct{}{}
	b.mu.Unlock()
	b.start()
	return w
}

// unwatch removes a watcher. Names without another watcher are no longer requested.
func (b *Board) unwatch(w *watcher) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.watchers, w)
	if len(w.prefixes) == 0 {
		return
	}
	for _, p := range w.prefixes {
		b.view.unbindPrefix(p)
	}
	for name, n := range b.nodes {
		if r := n.state.Load(); !n.bound && !b.view.has(name) && r.sending+r.queued == 0 {
			delete(b.nodes, name)
		}
	}
	b.askNow()
}

// tell wakes watchers of names. Board.mu must be held. No name means that an attempt was answered or failed.
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

// settled reports whether the server has answered for everything that w watches, or has answered at
// all if w watches nothing. err is why the newest attempt failed.
func (b *Board) settled(w *watcher) (is bool, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(w.prefixes) > 0 && b.view.mark == (mark.Mark{}) {
		return false, b.status.Err
	}
	for _, name := range w.names {
		if r := b.nodes[name].state.Load(); !r.known || r.old {
			return false, b.status.Err
		}
	}
	return len(w.names)+len(w.prefixes) > 0 || !b.status.Answered.IsZero(), b.status.Err
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
