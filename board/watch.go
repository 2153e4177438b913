package board

import (
	"context"
	"iter"
	"slices"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/mark"
)

// Watch yields the names of all the keys as soon as they are known, and then, after each change,
// those that changed: one handler can draw a screen first and update it later. Without keys it
// covers everything on the board. A slow body gets several changes as one. It ends when the body
// breaks, ctx ends, or the board is closed.
func (b *Board) Watch(ctx context.Context, keys ...pantry.AnyKey) iter.Seq[[]string] {
	if len(keys) == 0 {
		return b.watchAll(ctx, nil, b.everything())
	}
	var names, prefixes []string
	for _, k := range keys {
		for _, d := range k.Declared() {
			if d.Family {
				prefixes = append(prefixes, d.Name+"/")
			} else {
				names = append(names, d.Name)
			}
		}
	}
	return b.watchAll(ctx, names, prefixes)
}

// WatchNames is Watch for names without keys; without names, for everything.
func (b *Board) WatchNames(ctx context.Context, names ...string) iter.Seq[[]string] {
	if len(names) == 0 {
		return b.watchAll(ctx, nil, b.everything())
	}
	return b.watchAll(ctx, names, nil)
}

// everything returns the prefixes of all that the app uses.
func (b *Board) everything() []string {
	if len(b.opts.only) > 0 {
		return b.opts.only
	}
	return []string{""}
}

func (b *Board) watchAll(ctx context.Context, names, prefixes []string) iter.Seq[[]string] {
	return func(yield func([]string) bool) {
		w := b.watch(names, prefixes)
		defer b.view.unwatch(w)
		for {
			if settled, _ := b.view.settled(w); settled {
				break
			}
			if !w.wait(ctx, b.ctx) {
				return
			}
		}
		b.view.changes(w)
		first := slices.Clone(names)
		for _, e := range b.view.under(prefixes...) {
			first = append(first, e.Name)
		}
		if !yield(first) {
			return
		}
		for w.wait(ctx, b.ctx) {
			if changed := b.view.changes(w); len(changed) > 0 && !yield(changed) {
				return
			}
		}
	}
}

// watch starts a watcher, and the requests for what it watches.
func (b *Board) watch(names, prefixes []string) *watcher {
	w := b.view.watch(names, prefixes)
	b.poller.start()
	return w
}

// changes yields nothing at once and then, after each change of names and of what begins with
// prefixes, the names that changed.
func (b *Board) changes(ctx context.Context, names, prefixes []string) iter.Seq[[]string] {
	return func(yield func([]string) bool) {
		w := b.watch(names, prefixes)
		defer b.view.unwatch(w)
		var changed []string
		for {
			if ctx.Err() != nil || b.ctx.Err() != nil || !yield(changed) {
				return
			}
			for changed = b.view.changes(w); len(changed) == 0; changed = b.view.changes(w) {
				if !w.wait(ctx, b.ctx) {
					return
				}
			}
		}
	}
}

// A watcher collects the names that changed until its body asks. changed is guarded by view.mu.
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
func (v *view) watch(names, prefixes []string) *watcher {
	w := &watcher{names: names, prefixes: prefixes, wake: make(chan struct{}, 1)}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, name := range names {
		v.request(name).bound = true
	}
	for _, p := range prefixes {
		v.requestPrefix(p)
	}
	v.watchers[w] = struct{}{}
	return w
}

// unwatch removes a watcher. Names without another watcher are no longer requested.
func (v *view) unwatch(w *watcher) {
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.watchers, w)
	if len(w.prefixes) == 0 {
		return
	}
	for _, p := range w.prefixes {
		v.replica.unbindPrefix(p)
	}
	for name, n := range v.nodes {
		if r := n.state.Load(); !n.bound && !v.replica.has(name) && r.sending+r.queued == 0 {
			delete(v.nodes, name)
		}
	}
	v.ask()
}

// changes returns the names that have changed since the last call for a watcher.
func (v *view) changes(w *watcher) []string {
	v.mu.Lock()
	defer v.mu.Unlock()
	changed := w.changed
	w.changed = nil
	slices.Sort(changed)
	return changed
}

// settled reports whether the server has answered for everything that w watches, or has answered at
// all if w watches nothing. err is why the newest attempt failed.
func (v *view) settled(w *watcher) (is bool, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if len(w.prefixes) > 0 && v.replica.mark == (mark.Mark{}) {
		return false, v.away
	}
	for _, name := range w.names {
		if r := v.nodes[name].state.Load(); !r.known || r.old {
			return false, v.away
		}
	}
	return len(w.names)+len(w.prefixes) > 0 || v.answered, v.away
}

// notify wakes a watcher for a name; "" means that an attempt was answered or failed. view.mu must be
// held.
func (w *watcher) notify(name string) {
	if name != "" && !slices.Contains(w.changed, name) {
		w.changed = append(w.changed, name)
	}
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// wait waits until the watcher is woken. It returns false if one of the contexts has ended.
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
