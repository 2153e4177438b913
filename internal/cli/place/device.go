package place

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"path/filepath"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/value"
)

// device is a namespace as a place. Its ledger evaluates edits by the same rules as a server.
type device struct {
	ns    *pantry.Namespace
	l     *ledger.Ledger // ns's ledger, opened again; nil for a reader
	place string
}

func openDevice(ns *pantry.Namespace, where string, write bool) (Present, error) {
	d := &device{ns: ns, place: where}
	if !write {
		return d, nil
	}
	var err error
	if d.l, err = ledger.Open(filepath.Dir(ns.Path()), ns.Name(), ledger.Options{}); err != nil {
		return nil, errors.Join(err, ns.Close())
	}
	return d, nil
}

func (d *device) Where() string { return d.ns.Path() }

func (d *device) Close() error {
	err := d.ns.Close()
	if d.l != nil {
		err = errors.Join(err, d.l.Close())
	}
	return err
}

func (d *device) Get(_ context.Context, name string) (entry.Entry, bool, error) {
	e, found := d.ns.Entry(name)
	return entry.Entry(e), found, nil
}

func (d *device) List(_ context.Context, prefix string) (Listing, error) {
	l := Listing{Place: d.place, Path: d.ns.Path(), Version: d.ns.Version(), Declared: declarationsOf(d.ns.Declared())}
	for e := range d.ns.Entries(prefix) {
		l.Entries = append(l.Entries, entry.Entry(e))
	}
	return l, nil
}

func (d *device) History(_ context.Context, limit int, names []string) ([]entry.Commit, error) {
	past, err := d.ns.History(limit, names...)
	return commitsOf(past), err
}

func (d *device) At(_ context.Context, when When) ([]entry.Entry, int64, error) {
	if version, ok := when.Version(); ok {
		entries, err := d.ns.EntriesAt(version)
		return entriesOf(entries), version, err
	}
	entries, version, err := d.ns.EntriesAtTime(when.time)
	return entriesOf(entries), version, err
}

func (d *device) Watch(ctx context.Context, names []string) iter.Seq2[entry.Entry, error] {
	return func(yield func(entry.Entry, error) bool) {
		first := true
		for changed := range d.ns.WatchNames(ctx, names...) {
			for _, name := range changed {
				e, _ := d.ns.Entry(name)
				if !yield(entry.Entry(e), nil) {
					return
				}
			}
			first = false
		}
		if first && ctx.Err() == nil {
			yield(entry.Entry{}, errors.New("the namespace was closed"))
		}
	}
}

func (d *device) Commit(_ context.Context, edits []entry.Edit) (rules.Outcome, error) {
	return rules.Commit(d.l, rules.Call{Who: entry.Author{By: clientName}, Edits: edits})
}

// Rename also moves the key's declaration, which no edit does.
func (d *device) Rename(_ context.Context, from, to string, force bool) (entry.Entry, error) {
	judge := d.judge(force)
	err := d.ns.Commit(func(b *pantry.Batch) error {
		e, found := b.Entry(from)
		if !found {
			return absent("nothing is stored under %s in %s", from, d.place)
		}
		if err := judge(to, e.Value); err != nil {
			return err
		}
		return b.Rename(from, to)
	})
	e, _ := d.ns.Entry(to)
	return entry.Entry(e), err
}

// Forget also accepts names that exist only in the past.
func (d *device) Forget(_ context.Context, names []string) error {
	for _, name := range names {
		if _, found := d.ns.Entry(name); found {
			continue
		}
		past, err := d.ns.History(1, name)
		if err == nil && len(past) == 0 {
			err = absent("nothing is stored under %s in %s, and its history has nothing of it", name, d.place)
		}
		if err != nil {
			return err
		}
	}
	return d.ns.Forget(names...)
}

// Reset erases everything from the file, which no edit does.
func (d *device) Reset(context.Context) (int64, []string, error) {
	gone := []string{}
	for e := range d.ns.Entries("") {
		gone = append(gone, e.Name)
	}
	err := d.ns.Reset()
	return d.ns.Version(), gone, err
}

// judge returns a function that checks a value against the declaration of a name.
func (d *device) judge(force bool) func(name string, v value.Value) error {
	var keys []entry.Declared
	if !force {
		keys = declarationsOf(d.ns.Declared())
	}
	find := entry.Among(keys)
	return func(name string, v value.Value) error {
		if err := entry.DeclaredFor(name, find).JudgeWhole(v); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return nil
	}
}

func (d *device) Apply(_ context.Context, changes []entry.Change, force bool) (int64, error) {
	judge := d.judge(force)
	err := d.ns.Commit(func(b *pantry.Batch) error {
		for _, c := range changes {
			now, _ := b.Entry(c.Name)
			if !value.Equal(now.Value, c.Old) {
				return meanwhile(c.Name)
			}
			err := judge(c.Name, c.New)
			switch {
			case err != nil:
			case c.New.IsZero():
				err = b.Drop(c.Name)
			default:
				err = b.Put(c.Name, c.New)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	return d.ns.Version(), err
}

func meanwhile(name string) error {
	return refuse.As(pantry.ErrConflict, "%s has changed meanwhile", name)
}

// Replaced draws a new id for the file.
func (d *device) Replaced() error { return d.l.Renew() }

func (d *device) Withdraw(_ context.Context, name string) (entry.Declared, int64, error) {
	k, result, err := rules.Withdraw(d.l, entry.Author{By: clientName}, name, nil)
	if errors.Is(err, pantry.ErrAbsent) {
		err = absent("no key %s is declared in %s", name, d.place)
	}
	if err != nil {
		return k, 0, err
	}
	return k, result.Version, nil
}

func (d *device) CloseKeys(context.Context, bool) (int64, error) {
	return 0, usage("a list of keys can be closed on a board, where several apps write; on a device, an app gets a problem for a name that it did not declare")
}

func (d *device) Restore(ctx context.Context, _ When, _ []string, changes []entry.Change, force bool) (int64, error) {
	return d.Apply(ctx, changes, force)
}
