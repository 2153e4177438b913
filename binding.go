package pantry

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync/atomic"
	"unsafe"
	"weak"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/slot"
	"github.com/small-pantry/pantry/value"
)

// A binding is what all copies of a Var share: the entry's node and the decoded value of its newest
// record. The slot and cache serve the rows of Get in docs/benchmarks.md: without them, each Get would
// decode.
type binding struct {
	slot.Slot
	node  *ledger.Node
	ns    *Namespace
	d     *definition
	in    *Batch // nil outside a Commit
	cache atomic.Pointer[reading]
	known atomic.Bool // the node empties the slot
}

func newBinding(ns *Namespace, d *definition, in *Batch) *binding {
	return bindTo(ns.l.Node(d.name), ns, d, in)
}

// passing returns a binding for one operation.
func passing(ns *Namespace, d *definition, in *Batch) *binding {
	return bindTo(ns.l.Passing(d.name), ns, d, in)
}

func bindTo(n *ledger.Node, ns *Namespace, d *definition, in *Batch) *binding {
	b := &binding{ns: ns, d: d, node: n, in: in}
	b.Find = func() unsafe.Pointer { return slot.Pointer(d.Copy(b.read().x)) } // a reading never changes
	return b
}

// A reading is what a record means to a key. It is immutable.
type reading struct {
	rec   *ledger.Record
	val   value.Value // the record's value, unsealed
	x     any         // a *T; the default, if no usable value is stored
	found bool
	err   error
}

// in returns the binding for a key in a namespace or in a batch.
func (d *definition) in(at Local) *binding {
	if at == nil {
		misuse("In of %s needs a *Namespace or a *Batch, not nil", d.name)
	}
	ns := at.namespace()
	ns.noteUse(d.name, d.family)
	if first, ok := ns.used.Load(d.name); d.family == "" && (!ok || first.(usedKey).def != d) {
		ns.firstUse(d)
	}
	return newBinding(ns, d, at.batch())
}

func (b *binding) lookup() (*reading, error) {
	r := b.read()
	return r, b.fail("look up", r.err)
}

// read returns the newest reading, or in a batch the reading of the batch.
func (b *binding) read() *reading {
	if b.in != nil {
		b.node.MarkRead()
		return b.decode(b.in.record(b.node))
	}
	r := b.cache.Load()
	switch {
	case r == nil || r.rec != b.node.Record():
		r = b.refresh()
	case b.d.clone == nil && !b.Ready():
		b.makeReady(r)
	}
	return r
}

// refresh decodes the newest record and reports a value that can't be used.
func (b *binding) refresh() *reading {
	b.node.MarkRead()
	r := b.decode(b.node.Record())
	b.cache.Store(r)
	if b.known.Load() {
		b.makeReady(r)
	}
	if r.err != nil {
		b.ns.prob.report(b.d.name, r.rec, r.err)
	}
	return r
}

// makeReady lets Get return r while its record is the newest. The node must know of the slot first.
// makeReady registers it at the second Get, since many variables are used once, and so that the
// node does not keep unused bindings alive.
func (b *binding) makeReady(r *reading) {
	if !b.known.Load() {
		weakly := weak.Make(b)
		known := b.node.OnChange(func() bool {
			b := weakly.Value()
			if b == nil {
				return false
			}
			b.Empty()
			return true
		})
		if !known {
			return
		}
		b.known.Store(true) // two goroutines can register twice, which does no harm
	}
	b.node.IfNewest(r.rec, func() { b.Fill(slot.Pointer(r.x)) })
}

func (b *binding) decode(rec *ledger.Record) *reading {
	r := new(reading)
	b.decodeInto(r, rec)
	return r
}

func (b *binding) decodeInto(r *reading, rec *ledger.Record) {
	*r = reading{rec: rec, x: b.d.def}
	if !rec.Found() {
		return
	}
	r.found = true
	v, err := b.plain(rec)
	r.val = rec.Value
	var x any
	if err == nil {
		x, err = b.d.Decode(v)
	}
	if err != nil {
		r.err = unusable(rec.Value, err)
		return
	}
	r.x, r.val = x, v
}

// merged returns val with the stored members that the key's struct does not know.
func (r *reading) merged(val value.Value, d *definition) value.Value {
	if d.merge == nil || r.err != nil {
		return val
	}
	return d.merge(val, r.val)
}

func (b *binding) fail(op string, err error) error {
	return wrap(op, b.ns.name, b.d.name, err)
}

// set stores x: see Var.Set.
func (b *binding) set(x any) error {
	val, err := b.d.Encode(x)
	if err != nil {
		return b.refuse("set", err)
	}
	if b.in != nil && b.d.merge == nil && !b.d.sealed { // Put replaces any stored value, so it is not read
		b.node.MarkWritten()
		return b.in.edit("set", b.d.name, func() error { return b.fail("set", b.in.set(b.d.name, val)) })
	}
	if b.in != nil || b.d.merge != nil || b.d.sealed {
		return b.write("set", func(old *reading) (value.Value, error) {
			return old.merged(val, b.d), nil
		})
	}
	enc, err := b.ns.encode(b.d.name, val)
	if err != nil {
		return b.fail("set", err)
	}
	o := &operation{b: b, enc: enc, always: true}
	_, err = o.commit("set")
	return err
}

// refuse returns the error for a value that is refused before it is written. A batch keeps it.
func (b *binding) refuse(op string, err error) error {
	if b.in == nil {
		return b.fail(op, err)
	}
	return b.write(op, func(*reading) (value.Value, error) { return value.Value{}, err })
}

// seed stores x if nothing is stored.
func (b *binding) seed(x any) error {
	val, err := b.d.Encode(x)
	return b.write("seed", func(old *reading) (value.Value, error) {
		if err == nil && old.found {
			return val, errAsItIs
		}
		return val, err
	})
}

// clear removes the entry.
func (b *binding) clear() error {
	return b.write("clear", func(*reading) (value.Value, error) { return value.Value{}, nil })
}

// update is Var.Update with a guard that can refuse the present value.
func (b *binding) update(f func(old any) (any, error), guard func(*reading) error) (now any, err error) {
	step := func(old *reading) (value.Value, error) {
		if err := guard(old); err != nil {
			return value.Value{}, err
		}
		if old.err != nil {
			return value.Value{}, old.err
		}
		next, err := f(b.d.Copy(old.x))
		if err != nil {
			return value.Value{}, callerError{err}
		}
		val, err := b.d.Encode(next)
		if err != nil {
			return value.Value{}, err
		}
		val = old.merged(val, b.d)
		now, err = b.d.dec(val)
		return val, err
	}
	if b.in != nil {
		err = b.write("update", step)
		return b.after(now, err)
	}
	b.node.MarkWritten()
	if b.ns.twice {
		_, _ = step(b.decode(b.node.Record())) // only its side effects matter
	}
	err = again(func(last bool) error {
		if last {
			o := &operation{b: b, f: step}
			_, err := o.commit("update")
			return err
		}
		rec := b.node.Record()
		val, err := step(b.decode(rec))
		if err != nil {
			return b.fail("update", err)
		}
		if val, err = b.stored(val, rec); err != nil {
			return b.fail("update", err)
		}
		_, err = b.ns.commit(func(tx *ledger.Tx) error {
			if tx.RecordOf(b.node) != rec {
				return errChanged
			}
			return b.ns.put(tx, b.d.name, val)
		})
		if errors.Is(err, errChanged) {
			return err
		}
		return b.fail("update", err)
	})
	return b.after(now, err)
}

// errChanged is returned if something that a function has read changed before its commit.
var errChanged = errors.New("changed meanwhile")

// again calls try until it does not return errChanged. After 8 tries it calls try with last set.
// try must then do its work under the lock, where nothing changes.
func again(try func(last bool) error) error {
	for range 8 {
		if err := try(false); !errors.Is(err, errChanged) {
			return err
		}
	}
	return try(true)
}

// watch yields the value now, and the newest after each change: see Var.Watch.
func (b *binding) watch(ctx context.Context) iter.Seq[any] {
	if b.in != nil {
		misuse("Watch of %s in a batch: watch the variable of the namespace", b.d.name)
	}
	return func(yield func(any) bool) {
		w := b.ns.l.Watch([]string{b.d.name}, nil)
		defer w.Close()
		if ctx.Err() != nil || b.ns.closed.Load() {
			return
		}
		r := b.read()
		for {
			if !yield(b.d.Copy(r.x)) {
				return
			}
			for old := r; r.rec == old.rec; r = b.read() {
				if !w.Wait(ctx, b.ns.done) {
					return
				}
			}
		}
	}
}

// unusable returns the error for a stored value that its key can't use.
func unusable(v value.Value, err error) error {
	if v.Kind() == value.KindSealed {
		return fmt.Errorf("the stored value can't be used: %w", err)
	}
	return fmt.Errorf("the stored value %s can't be used: %w", entry.Quoted(v), err)
}
