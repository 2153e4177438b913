package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"path/filepath"
	"slices"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/family"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// device is a namespace as a place.
type device struct {
	ns    *pantry.Namespace
	place string
}

func (d *device) where() string { return d.ns.Path() }
func (d *device) Close() error  { return d.ns.Close() }

func wire(e pantry.Entry) board.Entry {
	return board.Entry{Name: e.Name, Value: e.Value, Version: e.Version, Updated: e.Updated, By: e.By}
}

func (d *device) get(_ context.Context, name string) (board.Entry, bool, error) {
	e, found := d.ns.Entry(name)
	return wire(e), found, nil
}

func (d *device) put(_ context.Context, name, typed string, o putOptions) (board.Entry, error) {
	return d.change(name, func(now pantry.Entry, found bool) (value.Value, error) {
		if o.ifVersion >= 0 && (o.ifVersion != now.Version || found != (o.ifVersion > 0)) && (found || o.ifVersion > 0) {
			return value.Value{}, d.conflict(now, found)
		}
		kind := o.kind
		if kind == value.KindNone {
			if kind = d.declared(name).Kind; found {
				kind = now.Value.Kind()
			}
		}
		if kind == value.KindNone {
			return value.Infer(typed)
		}
		v, err := value.FromTyped(kind, typed)
		if err != nil && o.kind == value.KindNone {
			err = fmt.Errorf("%s is %s: %w; or choose another kind with --kind", name, kind, err)
		}
		return v, err
	})
}

func (d *device) conflict(now pantry.Entry, found bool) error {
	if !found {
		return fmt.Errorf("%w: %s is absent", pantry.ErrConflict, now.Name)
	}
	return fmt.Errorf("%w: %s is at version %d", pantry.ErrConflict, now.Name, now.Version)
}

// declared gives the key that a name was declared by, itself or as one of a
// family; the kind is none where no app has.
func (d *device) declared(name string) pantry.DeclaredKey {
	all := d.ns.Declared()
	for of := range family.Of(name) {
		i := slices.IndexFunc(all, func(k pantry.DeclaredKey) bool { return k.Name == of })
		switch {
		case i < 0:
		case all[i].Many && of == name: // the newest number of its records
			return pantry.DeclaredKey{Name: name, Kind: value.KindInt}
		default:
			return all[i]
		}
	}
	return pantry.DeclaredKey{Name: name}
}

// change is a read-modify-write of one entry. An int that is put into a float
// becomes one.
func (d *device) change(name string, next func(now pantry.Entry, found bool) (value.Value, error)) (board.Entry, error) {
	err := d.ns.Commit(func(b *pantry.Batch) error {
		v, err := next(b.Entry(name))
		if err != nil {
			return err
		}
		if k := d.declared(name); v.Kind() == k.Kind {
			if err := value.Within(v, k.Min, k.Max); err != nil {
				return fmt.Errorf("%s: %w; it is declared from %s to %s", name, err, k.Min, k.Max)
			}
		}
		return b.Put(name, v)
	})
	if err != nil {
		return board.Entry{}, err
	}
	e, _ := d.ns.Entry(name)
	return wire(e), nil
}

func (d *device) operate(_ context.Context, name string, o operation) (board.Entry, error) {
	k := d.declared(name)
	if !k.Default.IsZero() && !o.started {
		o.start = k.Default
	}
	o.keep = cmp.Or(o.keep, k.Keep)
	return d.change(name, func(now pantry.Entry, _ bool) (value.Value, error) {
		v, err := o.apply(now.Value)
		if err != nil {
			return v, fmt.Errorf("%s: %w", name, err)
		}
		return v, nil
	})
}

func (d *device) rename(_ context.Context, from, to string) (board.Entry, error) {
	err := d.ns.Commit(func(b *pantry.Batch) error {
		if _, found := b.Entry(from); !found {
			return exitError{exitAbsent, fmt.Sprintf("nothing is stored under %s in %s", from, d.place)}
		}
		return b.Rename(from, to)
	})
	e, _ := d.ns.Entry(to)
	return wire(e), err
}

func (d *device) reset(context.Context) (int64, []string, error) {
	gone := []string{}
	for e := range d.ns.Entries("") {
		gone = append(gone, e.Name)
	}
	err := d.ns.Reset()
	return d.ns.Version(), gone, err
}

func (d *device) history(_ context.Context, limit int, names []string) ([]board.CommitInfo, error) {
	past, err := d.ns.History(limit, names...)
	out := make([]board.CommitInfo, len(past))
	for i, p := range past {
		out[i] = board.CommitInfo{Version: p.Version, Time: p.Time, By: p.By}
		for _, ch := range p.Changes {
			out[i].Changes = append(out[i].Changes, board.Change(ch))
		}
	}
	return out, err
}

func (d *device) at(_ context.Context, version int64) ([]board.Entry, error) {
	past, err := d.ns.EntriesAt(version)
	var out []board.Entry
	for _, e := range past {
		out = append(out, wire(e))
	}
	return out, err
}

func (d *device) apply(_ context.Context, changes []board.Change) (int64, error) {
	err := d.ns.Commit(func(b *pantry.Batch) error {
		for _, c := range changes {
			now, _ := b.Entry(c.Name)
			if !value.Equal(now.Value, c.Old) {
				return fmt.Errorf("%w: %s was changed meanwhile", pantry.ErrConflict, c.Name)
			}
			if c.New.IsZero() {
				if err := b.Drop(c.Name); err != nil {
					return err
				}
			} else if err := b.Put(c.Name, c.New); err != nil {
				return err
			}
		}
		return nil
	})
	return d.ns.Version(), err
}

// replaced draws a new id for the file.
func (d *device) replaced() error {
	l, err := ledger.Open(filepath.Dir(d.ns.Path()), d.ns.Name(), ledger.Options{})
	if err != nil {
		return err
	}
	return errors.Join(l.Renew(), l.Close())
}

func (d *device) rm(_ context.Context, names []string) (int64, error) {
	err := d.ns.Commit(func(b *pantry.Batch) error {
		for _, name := range names {
			if _, found := b.Entry(name); !found {
				return exitError{exitAbsent, fmt.Sprintf("nothing is stored under %s in %s; nothing was removed", name, d.place)}
			}
		}
		return b.Drop(names...)
	})
	return d.ns.Version(), err
}

func (d *device) list(_ context.Context, prefix string) (listing, error) {
	l := listing{Place: d.place, Path: d.ns.Path(), Version: d.ns.Version(), Entries: []board.Entry{}, Declared: []pantry.DeclaredKey{}}
	for e := range d.ns.Entries(prefix) {
		l.Entries = append(l.Entries, wire(e))
	}
	l.Declared = append(l.Declared, d.ns.Declared()...)
	return l, nil
}

func (d *device) watch(ctx context.Context, names []string) iter.Seq2[change, error] {
	return func(yield func(change, error) bool) {
		first := true
		for changed := range d.ns.WatchNames(ctx, names...) {
			for _, name := range changed {
				e, found := d.ns.Entry(name)
				if !found {
					e.Name = name
				}
				if !yield(change{wire(e), !found}, nil) {
					return
				}
			}
			first = false
		}
		if first && ctx.Err() == nil {
			yield(change{}, errors.New("the namespace was closed"))
		}
	}
}
