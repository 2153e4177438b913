package pantry

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// encode encodes a value, and reports one that is large.
func (ns *Namespace) encode(name string, v value.Value) (ledger.Encoded, error) {
	enc, err := ledger.Encode(v)
	if err != nil {
		return enc, err
	}
	if enc.Exceeds(largeValue) {
		if _, reported := ns.large.LoadOrStore(name, true); !reported {
			ns.prob.report(name, nil, fmt.Errorf("%w: the value has %d bytes, which slows down every launch and change; keep a value of over %d bytes in a file", ErrTooLarge, enc.Size(), largeValue))
		}
	}
	return enc, nil
}

// An Entry is what is stored under a name, written with any key or none.
type Entry struct {
	Name    string
	Value   value.Value // the zero Value means that nothing is stored
	Version int64       // the commit that changed it last
	Updated time.Time   // the time of that commit, by the writer's clock; on a board by the server's
	By      string      // the writer's name, if it gave one: see ClientName
	From    string      // on a board: the instance of the writer, another one on each phone
}

// MarshalJSON returns the entry as an object:
//
//	{"name":"tank/litres","kind":"int","value":420,"version":17,"updated":"2026-05-03T09:12:44.123Z","by":"shed"}
func (e Entry) MarshalJSON() ([]byte, error) { return entry.Entry(e).MarshalJSON() }

// Entry returns the entry called name, if it exists.
func (ns *Namespace) Entry(name string) (e Entry, found bool) {
	n := ns.namespace().l.Find(name)
	if n == nil && ns.declaration != nil && ns.declaration.covers(name) {
		n = ns.l.Node(name) // NoteUsage records only what an app does through its keys
	}
	if n == nil {
		return Entry{Name: name}, false
	}
	n.MarkRead()
	rec := n.Record()
	return Entry(ledger.Named{Name: name, Record: rec}.Entry()), rec.Found()
}

// Entries iterates over the entries whose names begin with prefix, in byte order of the names, as
// of the start of the loop. The body can do anything, including write or Close.
func (ns *Namespace) Entries(prefix string) iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		s := ns.namespace().l.Snapshot()
		defer s.Release()
		for e := range s.Entries(prefix, "") {
			if !yield(Entry(e.Entry())) {
				return
			}
		}
	}
}

// Put stores a value under a name without a key. It replaces a stored value of any kind. The errors
// are those of Var.Set.
func (ns *Namespace) Put(name string, v value.Value) error {
	err := CheckName(name)
	if err == nil {
		_, err = ns.namespace().commit(func(tx *ledger.Tx) error { return ns.put(tx, name, v) })
	}
	return ns.fail("put", name, err)
}

// put sets a name to a value in tx. The zero Value drops the name.
func (ns *Namespace) put(tx *ledger.Tx, name string, v value.Value) error {
	if v.IsZero() {
		tx.Drop(name)
		return nil
	}
	enc, err := ns.encode(name, v)
	if err != nil {
		return err
	}
	tx.Put(name, enc)
	return ns.checkLimit(tx)
}

// checkLimit returns an error if a value or the namespace would exceed its limit with the changes of
// tx. Making an entry or the namespace smaller is always allowed.
func (ns *Namespace) checkLimit(tx *ledger.Tx) error {
	if most := ns.limits.value; most > 0 {
		if size, over := tx.Over(most); over {
			return fmt.Errorf("%w: the value has %d bytes, and the limit is %d", ErrTooLarge, size, most)
		}
	}
	if most := ns.limits.namespace; most > 0 && tx.Size() > int64(most) && tx.Grows() {
		return fmt.Errorf("%w: the namespace would hold %d bytes, and the limit is %d", ErrTooLarge, tx.Size(), most)
	}
	return nil
}

// Drop removes entries in one commit. An absent name is no error.
func (ns *Namespace) Drop(names ...string) error {
	_, err := ns.namespace().commit(func(tx *ledger.Tx) error {
		for _, name := range names {
			tx.Drop(name)
		}
		return nil
	})
	return ns.fail("drop", "", err)
}

// Forget removes entries and erases them from the file: their names and every value that they had.
// The rest of the past stays, except for commits that changed nothing else. The errors are those of
// Var.Set. If the entries were removed and the file could not be rewritten, the error says so.
func (ns *Namespace) Forget(names ...string) error {
	err := ns.namespace().mayWrite()
	if err == nil && len(names) == 0 {
		err = refuse.As(ErrInvalid, "no name was given; use Reset to remove everything")
	}
	if err == nil {
		err = erased(ns.commit(func(tx *ledger.Tx) error {
			for _, name := range names {
				tx.Drop(name)
			}
			tx.Owe(names...)
			return nil
		}))
	}
	return ns.fail("forget", "", err)
}

// Watch yields the names of all the keys at once, and then, after each change, the names that
// changed. One loop body serves the first view of a screen and later ones. A slow body gets several
// changes as one. The loop ends when the body breaks, ctx ends, or the namespace is closed. The
// body can write and close.
func (ns *Namespace) Watch(ctx context.Context, keys ...AnyKey) iter.Seq[[]string] {
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
	return ns.watch(ctx, names, prefixes)
}

// WatchNames is Watch for names without keys. Without names it covers the whole namespace.
func (ns *Namespace) WatchNames(ctx context.Context, names ...string) iter.Seq[[]string] {
	if len(names) == 0 {
		return ns.watch(ctx, nil, []string{""})
	}
	return ns.watch(ctx, names, nil)
}

// watch yields the watched names and the names under the prefixes, and then the names that changed.
// It compares records, since a name that came and went between two looks is no change.
func (ns *Namespace) watch(ctx context.Context, names, prefixes []string) iter.Seq[[]string] {
	return func(yield func([]string) bool) {
		w := ns.namespace().l.Watch(names, prefixes)
		defer w.Close()
		s := ns.l.Snapshot()
		seen := map[string]*ledger.Record{}
		first := slices.Clone(names)
		for _, name := range names {
			seen[name] = s.Record(name)
		}
		for _, p := range prefixes {
			for e := range s.Entries(p, "") {
				first = append(first, e.Name)
				seen[e.Name] = e.Record
			}
		}
		at := s.Point()
		s.Release()
		if ctx.Err() != nil || ns.closed.Load() || !yield(first) {
			return
		}
		for w.Wait(ctx, ns.done) {
			s := ns.l.Snapshot()
			var changed []string
			for e := range s.Since(at) {
				if old := seen[e.Name]; w.Wants(e.Name) && old != e.Record && (old != nil || e.Found()) {
					changed = append(changed, e.Name)
					seen[e.Name] = e.Record
				}
			}
			at = s.Point()
			s.Release()
			if len(changed) > 0 && !yield(changed) {
				return
			}
		}
	}
}
