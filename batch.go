package pantry

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/value"
)

// A Batch is a Commit while its function runs. Variables in it read the namespace as of one moment
// and the batch's own changes, and write to the batch. It belongs to that function and its
// goroutine. A variable that outlives the batch reads the namespace and refuses to write.
type Batch struct {
	ns      *Namespace
	from    source
	reads   map[string]*ledger.Record
	lists   map[string][]string       // the names that had a prefix
	names   []string                  // the written names, in order
	now     map[string]ledger.Encoded // their values; the zero Value means removed
	renamed []renaming                // in order: declared keys move with their entries
	// renameKeys moves them, once something was renamed: an app that renames nothing does not carry it.
	renameKeys func(b *Batch, tx *ledger.Tx)
	err        error    // the first refusal
	owes       []string // a sealed key's value was stored in the clear
	ended      bool
}

func (b *Batch) namespace() *Namespace {
	if b == nil || b.ns == nil {
		misuse("a nil or zero Batch was used; Namespace.Commit passes one to its function")
	}
	return b.ns
}

func (b *Batch) batch() *Batch { b.namespace(); return b }

// Commit applies all changes that f makes in its batch, or none. When it returns nil, all are on
// disk and have become visible at once. If f returns an error, Commit returns it and changes
// nothing. The first refusal of a variable in the batch is kept too: Commit returns it even if f
// ignored it.
//
// f sees the namespace as of one moment, and its own changes. If something that it read has changed
// before the commit, f runs again; after 8 tries it runs while other writers wait. So f must have
// no side effects, must be quick, and must write through the batch only. A write to the namespace
// itself inside f can wait until it fails with ErrBusy.
//
// Other errors are those of Var.Set.
func (ns *Namespace) Commit(f func(b *Batch) error) error {
	if ns.namespace().twice {
		_, _ = ns.runNow(f) // only its side effects matter
	}
	err := again(func(last bool) error {
		if last {
			return ns.commitLocked(f)
		}
		b, err := ns.runNow(f)
		if err != nil || len(b.names) == 0 {
			if err == nil && ns.closed.Load() {
				err = ErrClosed
			}
			return err
		}
		_, err = ns.commit(func(tx *ledger.Tx) error {
			if b.overtaken(inTx(tx)) {
				return errChanged
			}
			return b.apply(tx)
		})
		return err
	})
	return ns.fail("commit", "", err)
}

// runNow is run on the present state.
func (ns *Namespace) runNow(f func(b *Batch) error) (*Batch, error) {
	snap := ns.l.Snapshot()
	defer snap.Release() // also if f panics
	return ns.run(f, inSnapshot(snap))
}

func (ns *Namespace) commitLocked(f func(b *Batch) error) error {
	_, err := ns.commit(func(tx *ledger.Tx) error {
		b, err := ns.run(f, inTx(tx))
		if err != nil {
			return err
		}
		return b.apply(tx)
	})
	return err
}

// run calls f with a batch. It returns the batch if nothing was refused.
func (ns *Namespace) run(f func(b *Batch) error, from source) (*Batch, error) {
	b := &Batch{ns: ns, from: from, reads: map[string]*ledger.Record{}, lists: map[string][]string{}, now: map[string]ledger.Encoded{}}
	defer func() { b.ended = true }()
	if err := f(b); err != nil {
		return b, callerError{err}
	}
	return b, b.err
}

func (b *Batch) apply(tx *ledger.Tx) error {
	for _, name := range b.names {
		if enc := b.now[name]; enc.Value().IsZero() {
			tx.Drop(name)
		} else {
			tx.Put(name, enc)
		}
	}
	if b.renameKeys != nil {
		b.renameKeys(b, tx)
	}
	tx.Owe(b.owes...)
	return wrap("commit", b.ns.name, "", b.ns.checkLimit(tx))
}

type renaming struct{ from, to string }

// renameKeys moves the declarations of renamed entries with them, also if they are renamed in a
// cycle.
func renameKeys(b *Batch, tx *ledger.Tx) {
	now := map[string]entry.Declared{} // of the names that are renamed; no kind means none
	key := func(name string) entry.Declared {
		k, known := now[name]
		if !known {
			k, _ = tx.Declared(name)
		}
		return k
	}
	var names []string
	for _, r := range b.renamed {
		moved := key(r.from)
		if moved.Kind == value.KindNone {
			continue
		}
		names = append(names, r.from, r.to)
		moved.Name = r.to
		now[r.from], now[r.to] = entry.Declared{}, moved
	}
	sorted.Strings(names)
	for _, name := range slices.Compact(names) {
		was, had := tx.Declared(name)
		switch k := now[name]; {
		case k.Kind != value.KindNone:
			tx.Declare(k)
		case had:
			tx.Withdraw(was)
		}
	}
}

// A source is what a batch reads: the namespace as of one moment.
type source struct {
	record func(name string) *ledger.Record
	names  func(prefix string) []string // names that hold a value
}

func inSnapshot(s *ledger.Snapshot) source {
	return source{s.Record, func(prefix string) []string {
		var names []string
		for e := range s.Entries(prefix, "") {
			names = append(names, e.Name)
		}
		return names
	}}
}

func inTx(tx *ledger.Tx) source {
	return source{tx.Record, tx.NamesUnder}
}

// overtaken reports whether something that the batch has read has changed.
func (b *Batch) overtaken(now source) bool {
	for name, rec := range b.reads {
		if now.record(name) != rec {
			return true
		}
	}
	for prefix, names := range b.lists {
		if !slices.Equal(now.names(prefix), names) {
			return true
		}
	}
	return false
}

// Entries returns the entries of the batch whose names begin with prefix, in byte order of the names.
func (b *Batch) Entries(prefix string) (all []Entry) {
	if b.batch().ended {
		return slices.Collect(b.ns.Entries(prefix))
	}
	for _, name := range b.namesUnder(prefix) {
		if e, found := b.Entry(name); found {
			all = append(all, e)
		}
	}
	return all
}

// namesUnder returns the names that begin with prefix and hold a value in the batch.
func (b *Batch) namesUnder(prefix string) []string {
	names, known := b.lists[prefix]
	if !known {
		names = b.from.names(prefix)
		b.lists[prefix] = names
	}
	names = slices.Clone(names)
	for _, name := range b.names {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	sorted.Strings(names)
	return slices.DeleteFunc(slices.Compact(names), func(name string) bool { return !b.find(name).Found() })
}

// record returns the record of a name in the batch.
func (b *Batch) record(n *ledger.Node) *ledger.Record {
	if b.ended {
		return n.Record()
	}
	return b.find(n.Name)
}

func (b *Batch) find(name string) *ledger.Record {
	if enc, written := b.now[name]; written {
		rec := &ledger.Record{Value: enc.Value(), Stamp: &ledger.Stamp{}, First: math.MaxInt64}
		if before := b.from.record(name); before.Found() {
			rec.First = before.First
		}
		return rec
	}
	rec, known := b.reads[name]
	if !known {
		rec = b.from.record(name)
		b.reads[name] = rec
	}
	return rec
}

func (b *Batch) set(name string, val value.Value) (err error) {
	var enc ledger.Encoded
	if !val.IsZero() {
		if enc, err = b.ns.encode(name, val); err != nil {
			return err
		}
	}
	if _, written := b.now[name]; !written {
		b.names = append(b.names, name)
	}
	b.now[name] = enc
	return nil
}

// edit adds a change and keeps the first refusal.
func (b *Batch) edit(op, name string, change func() error) error {
	if b.ended {
		return wrap(op, b.ns.name, name, fmt.Errorf("%w: the Commit of this variable has ended", ErrClosed))
	}
	err := change()
	if err != nil && b.err == nil {
		b.err = err
	}
	return err
}

// Entry returns the entry of a name in the batch.
func (b *Batch) Entry(name string) (e Entry, found bool) {
	if b.batch().ended {
		return b.ns.Entry(name)
	}
	if n := b.ns.l.Find(name); n != nil {
		n.MarkRead()
	}
	rec := b.find(name)
	return Entry(ledger.Named{Name: name, Record: rec}.Entry()), rec.Found()
}

// Put stores a value under a name without a key.
func (b *Batch) Put(name string, v value.Value) error {
	return b.batch().edit("put", name, func() error {
		err := CheckName(name)
		if err == nil {
			err = b.set(name, v)
		}
		return wrap("put", b.ns.name, name, err)
	})
}

// Drop removes names. An absent name is no error.
func (b *Batch) Drop(names ...string) error {
	for _, name := range names {
		if err := b.batch().edit("drop", name, func() error { return b.set(name, value.Value{}) }); err != nil {
			return err
		}
	}
	return nil
}

// Rename moves an entry to another name, which must be free. It does nothing if the entry is
// absent, so a step that runs twice does no harm.
func (b *Batch) Rename(from, to string) error {
	return b.batch().edit("rename", from, func() error {
		have := b.find(from)
		if !have.Found() || from == to {
			return nil
		}
		err := CheckName(to)
		if err == nil && b.find(to).Found() {
			err = fmt.Errorf("%w: the entry %s exists already; drop it first", ErrConflict, scan.Quote(to))
		}
		if err == nil {
			err = b.set(to, have.Value)
		}
		if err == nil {
			err = b.set(from, value.Value{})
			b.renamed = append(b.renamed, renaming{from, to})
			b.renameKeys = renameKeys
		}
		return wrap("rename", b.ns.name, from, err)
	})
}
