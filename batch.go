package pantry

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A Batch is a Commit while its function runs: variables in it read one
// moment and the batch's own changes, and write into it. It belongs to that
// function and its goroutine. A variable that outlives it reads the namespace
// and refuses to write.
type Batch struct {
	ns    *Namespace
	look  func(name string) *ledger.Record
	reads map[string]*ledger.Record
	names []string               // that were written, in order
	now   map[string]value.Value // what they hold; no value: removed
	err   error                  // the first refusal
	ended bool
}

func (b *Batch) namespace() *Namespace {
	if b == nil || b.ns == nil {
		misuse("a nil or zero Batch was used; Namespace.Commit gives one to its function")
	}
	return b.ns
}

func (b *Batch) batch() *Batch { b.namespace(); return b }

// Commit makes all the changes that f makes in its batch, or none: when it
// returns nil all are on the disk and became visible at once. Whatever f
// returns as its error Commit returns, and nothing is changed. The first
// refusal of a variable in the batch is kept too: Commit returns it even when f
// ignored it.
//
// f sees the namespace as it is at one moment, and its own changes. When
// something that it read was changed by others meanwhile, it runs again; after
// 8 times it runs while others wait. So it must have no side effects, be quick,
// and write through the batch only: a write to the namespace itself from within
// f may wait until it fails with ErrBusy.
//
// Other errors are those of Var.Set.
func (ns *Namespace) Commit(f func(b *Batch) error) error {
	err := again(func(last bool) error {
		if last {
			return ns.commitLocked(f)
		}
		snap := ns.namespace().l.Snapshot()
		b, err := ns.run(f, snap.Record)
		snap.Release()
		if err != nil || len(b.names) == 0 {
			if err == nil && ns.closed.Load() {
				err = ErrClosed
			}
			return err
		}
		_, err = ns.commit(func(tx *ledger.Tx) error {
			for name, rec := range b.reads {
				if tx.Record(name) != rec {
					return errChanged
				}
			}
			return b.apply(tx)
		})
		return err
	})
	return ns.fail("commit", "", err)
}

func (ns *Namespace) commitLocked(f func(b *Batch) error) error {
	_, err := ns.commit(func(tx *ledger.Tx) error {
		b, err := ns.run(f, tx.Record)
		if err != nil {
			return err
		}
		return b.apply(tx)
	})
	return err
}

// run calls f with a batch and gives the batch when nothing was refused.
func (ns *Namespace) run(f func(b *Batch) error, look func(string) *ledger.Record) (*Batch, error) {
	b := &Batch{ns: ns, look: look, reads: map[string]*ledger.Record{}, now: map[string]value.Value{}}
	defer func() { b.ended = true }()
	if err := f(b); err != nil {
		return b, callerError{err}
	}
	return b, b.err
}

func (b *Batch) apply(tx *ledger.Tx) error {
	for _, name := range b.names {
		if err := put(tx, name, b.now[name]); err != nil {
			return err
		}
	}
	return nil
}

// record gives what a name holds in the batch.
func (b *Batch) record(n *ledger.Node) *ledger.Record {
	if b.ended {
		return n.Record()
	}
	n.MarkRead()
	return b.find(n.Name)
}

func (b *Batch) find(name string) *ledger.Record {
	if val, written := b.now[name]; written {
		return &ledger.Record{Value: val, Stamp: &ledger.Stamp{}}
	}
	rec, known := b.reads[name]
	if !known {
		rec = b.look(name)
		b.reads[name] = rec
	}
	return rec
}

func (b *Batch) set(name string, val value.Value) error {
	if !val.IsZero() {
		if _, err := ledger.Encode(val); err != nil {
			return err
		}
	}
	if _, written := b.now[name]; !written {
		b.names = append(b.names, name)
	}
	b.now[name] = val
	return nil
}

// edit makes a change and keeps the first refusal.
func (b *Batch) edit(op, name string, change func() error) error {
	if b.ended {
		return wrap(op, b.ns.name, name, fmt.Errorf("%w: the Commit that this variable belongs to has ended", ErrClosed))
	}
	err := change()
	if err != nil && b.err == nil {
		b.err = err
	}
	return err
}

// Entry gives what a name holds in the batch.
func (b *Batch) Entry(name string) (e Entry, found bool) {
	rec := b.batch().record(b.ns.l.Node(name))
	return entryOf(ledger.Entry{Name: name, Record: rec}), rec.Found()
}

// Put stores a value under a name without a key.
func (b *Batch) Put(name string, v value.Value) error {
	return b.batch().edit("put", name, func() error {
		_, err := encodeAt(name, v)
		if err == nil {
			err = b.set(name, v)
		}
		return wrap("put", b.ns.name, name, err)
	})
}

// Drop removes names; one under which nothing is stored is not an error.
func (b *Batch) Drop(names ...string) error {
	for _, name := range names {
		if err := b.batch().edit("drop", name, func() error { return b.set(name, value.Value{}) }); err != nil {
			return err
		}
	}
	return nil
}

// Rename moves what is stored under one name to another, which must be free.
// Nothing happens where nothing is stored, so that a step which runs twice
// does no harm.
func (b *Batch) Rename(from, to string) error {
	return b.batch().edit("rename", from, func() error {
		have := b.find(from)
		if !have.Found() || from == to {
			return nil
		}
		err := ledger.CheckName(to)
		if err == nil && b.find(to).Found() {
			err = fmt.Errorf("%w: there is an entry %s already; drop it before", ErrConflict, value.Quote(to))
		}
		if err == nil {
			err = b.set(to, have.Value)
		}
		if err == nil {
			err = b.set(from, value.Value{})
		}
		return wrap("rename", b.ns.name, from, err)
	})
}
