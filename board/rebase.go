package board

import (
	"slices"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// What the changes of an outbox are based on. A queued put is conditional on what the app had seen,
// and that includes the app's own changes.

// An unseen is what a change of a Board stored under a name while the Board's view still showed
// something older: its answer came too late for the view.
type unseen struct {
	shown entry.Tag // of what the view showed
	now   entry.Entry
}

// begin notes what a change that is being made is based on: what the variables show of its names, or
// an own change that they do not show yet. Queued changes of these names wait for its end, since they
// may be based on it.
func (o *outbox) begin(b *Board, w *write) {
	for begun := false; !begun; {
		o.mu.Lock()
		stores := o.stores
		o.mu.Unlock()
		at, base := b.view.position().Version, b.view.shown(w.names())
		o.mu.Lock()
		if begun = stores == o.stores; begun {
			for name, u := range o.unseen[b] {
				if u.now.Version <= at { // the view has it, or something newer
					delete(o.unseen[b], name)
				} else if w.about(name) && tagOf(base[name]) == u.shown {
					if base[name] = u.now; u.now.Value.IsZero() {
						delete(base, name)
					}
				}
			}
			w.base, o.making = base, append(o.making, w)
		}
		o.mu.Unlock()
	}
}

// end follows begin, once the change is stored, queued or refused.
func (o *outbox) end(w *write) {
	o.mu.Lock()
	o.making = slices.DeleteFunc(o.making, func(other *write) bool { return other == w })
	o.mu.Unlock()
	o.wake()
}

// stored updates the base of other changes after one that was not queued.
func (o *outbox) stored(b *Board, w *write, page *wire.Page) {
	shown := map[*Board]map[string]entry.Entry{b: b.view.shown(w.names())}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.rebaseOn(&item{write: *w}, page, nil, shown)
}

// rebaseOn calls rebase for each name of a page, which answers a change. before is what the view showed
// before the change was sent, and boards what the views of the Boards show now. mu must be held.
func (o *outbox) rebaseOn(it *item, page *wire.Page, before map[string]*remote, boards map[*Board]map[string]entry.Entry) {
	o.stores++
	for _, e := range page.Entries {
		o.rebase(it, e, before[e.Name], boards)
	}
	for _, g := range page.Gone {
		o.rebase(it, entry.Entry{Name: g.Name, Version: g.Version}, before[g.Name], boards)
	}
}

// rebase updates the base of later changes of a name after an own change, if that overwrote nothing
// that the app had not seen. mu must be held.
func (o *outbox) rebase(it *item, now entry.Entry, before *remote, boards map[*Board]map[string]entry.Entry) {
	was, known := it.base[now.Name]
	if !known && before != nil {
		was = before.entry
	}
	var seen []entry.Tag // what a later change can have seen; nil means anything
	if put := it.put(); put != nil {
		// It was stored because its base had not changed, or because the app said so. Later
		// changes of the app are based on it.
		mine := now.Value.IsZero() && put.Op.Verb == value.Drop || now.From == o.from && value.Equal(now.Value, put.Op.Operand)
		if !mine {
			return
		}
	} else {
		if own, err := it.applied(now.Name, was.Value); err != nil || !value.Equal(own, now.Value) {
			return
		}
		seen = []entry.Tag{tagOf(was)}
	}
	for b, entries := range boards {
		if shown, found := entries[now.Name]; found {
			o.see(b, shown, now, seen)
		}
	}
	for _, w := range o.making {
		base := w.base[now.Name]
		switch {
		case seen != nil && tagOf(base) != seen[0]:
		case now.Value.IsZero():
			delete(w.base, now.Name)
		default:
			w.base[now.Name] = now
		}
	}
	for _, later := range o.items {
		if !later.sent && later.rebase(now, seen) {
			_ = o.save(later) // if it fails, it is reported as a conflict, and kept
		}
	}
}

// applied returns what the edits of a name make of a value.
func (it *item) applied(name string, old value.Value) (now value.Value, err error) {
	now = old
	for _, e := range it.edits {
		if e.Name == name && err == nil {
			now, _, err = e.Op.Apply(now)
		}
	}
	return now, err
}

// rebase replaces the condition of the edits of an entry, and reports whether there are any. If seen is not
// nil, only edits with that condition get it.
func (it *item) rebase(now entry.Entry, seen []entry.Tag) (changed bool) {
	version := now.Version
	if now.Value.IsZero() {
		version = 0
	}
	for i, e := range it.edits {
		if e.Name == now.Name && len(e.Cond.Is) == 1 && (seen == nil || e.Cond.Is[0] == seen[0]) {
			it.edits[i], changed = e.If(version, now.Updated), true
		}
	}
	return changed
}

// see notes an own change that a Board does not show, for the base of later changes. seen is as in
// rebase. mu must be held.
func (o *outbox) see(b *Board, shown, now entry.Entry, seen []entry.Tag) {
	if shown.Version >= now.Version || !slices.Contains(o.boards, b) { // it shows that, or was closed meanwhile
		return
	}
	base := shown
	if u, found := o.unseen[b][now.Name]; found && u.shown == tagOf(shown) {
		base = u.now
	}
	if seen != nil && tagOf(base) != seen[0] {
		return
	}
	if o.unseen[b] == nil {
		o.unseen[b] = map[string]unseen{}
	}
	o.unseen[b][now.Name] = unseen{tagOf(shown), now}
}

// tagOf returns the tag of an entry; the zero Tag means absent.
func tagOf(e entry.Entry) entry.Tag {
	if e.Value.IsZero() {
		return entry.Tag{}
	}
	return entry.TagOf(e.Version, e.Updated)
}
