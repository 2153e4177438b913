package board

import (
	"context"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// CopyTo copies entries of a namespace on this device, or all of them without names, to a board in
// one commit. It keeps kinds and values and replaces what is there. Sealed entries stay on the
// device: if one is named, the error is pantry.ErrSealed. The error is pantry.ErrAbsent if a named
// entry is absent, and otherwise one of Commit, for example for more than MaxOps names.
func CopyTo(ctx context.Context, b *Board, ns *pantry.Namespace, names ...string) error {
	var edits []entry.Edit
	add := func(e pantry.Entry) {
		edits = append(edits, entry.Edit{Name: e.Name, Op: value.Op{Verb: value.Put, Operand: e.Value, Kind: e.Value.Kind()}})
	}
	for _, name := range names {
		e, found := ns.Entry(name)
		switch {
		case !found:
			return b.conn.fail("copy", name, pantry.ErrAbsent)
		case e.Value.Kind() == value.KindSealed:
			return b.conn.fail("copy", name, pantry.ErrSealed)
		}
		add(e)
	}
	if len(names) == 0 {
		for e := range ns.Entries("") {
			if e.Value.Kind() != value.KindSealed {
				add(e)
			}
		}
	}
	if len(edits) == 0 {
		return nil
	}
	_, err := b.write(ctx, "copy", edits)
	return err
}

// CopyFrom copies entries of a board, or all of them without names, to a namespace on this device
// in one commit. It replaces what is there. The errors are pantry.ErrAbsent if a named entry is
// absent, those of Entries, and those of the namespace's Commit.
func CopyFrom(ctx context.Context, b *Board, ns *pantry.Namespace, names ...string) error {
	all, _, err := b.All(ctx, "")
	if err != nil {
		return err
	}
	stored := map[string]pantry.Entry{}
	for _, e := range all {
		stored[e.Name] = e
	}
	if len(names) > 0 {
		all = all[:0]
		for _, name := range names {
			e, found := stored[name]
			if !found {
				return b.conn.fail("copy", name, pantry.ErrAbsent)
			}
			all = append(all, e)
		}
	}
	return ns.Commit(func(batch *pantry.Batch) error {
		for _, e := range all {
			if err := batch.Put(e.Name, e.Value); err != nil {
				return err
			}
		}
		return nil
	})
}
