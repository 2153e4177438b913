package board

import (
	"context"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

// CopyTo copies what a namespace on this device holds under names, or all of it without
// names, to a board: kinds and values as they are, in place of what is there, in one
// commit. Sealed entries stay on the device: of one that is named the error is
// pantry.ErrSealed. The error is pantry.ErrAbsent for a name under which nothing is
// stored, and else one of Commit, such as for more than MaxOps names.
func CopyTo(ctx context.Context, b *Board, ns *pantry.Namespace, names ...string) error {
	var edits []Op
	add := func(e pantry.Entry) {
		edits = append(edits, Op{Name: e.Name, Op: value.Op{Verb: value.Put, Operand: e.Value, Kind: e.Value.Kind()}})
	}
	for _, name := range names {
		e, found := ns.Entry(name)
		switch {
		case !found:
			return b.fail("copy", name, pantry.ErrAbsent)
		case e.Value.Kind() == value.KindSealed:
			return b.fail("copy", name, pantry.ErrSealed)
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

// CopyFrom copies what a board holds under names, or all of it without names, to a
// namespace on this device, in place of what is there, in one commit. The errors are
// pantry.ErrAbsent for a name under which nothing is stored, those of Entries, and those
// of the namespace's Commit.
func CopyFrom(ctx context.Context, b *Board, ns *pantry.Namespace, names ...string) error {
	all, _, err := b.All(ctx, "")
	if err != nil {
		return err
	}
	stored := map[string]Entry{}
	for _, e := range all {
		stored[e.Name] = e
	}
	if len(names) > 0 {
		all = all[:0]
		for _, name := range names {
			e, found := stored[name]
			if !found {
				return b.fail("copy", name, pantry.ErrAbsent)
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
