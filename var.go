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

// A Var is a key in one place: in a namespace, or in a batch. It is a small value to copy and keep,
// and it is safe for concurrent use. Bind it once with Key.In rather than at each use; then reading
// costs a few nanoseconds. The zero Var panics.
type Var[T any] struct {
	b *binding[T]
	s *slot.Slot // of b; nil for a zero Var
}

// A binding is what all copies of a Var share: the entry's node and the decoded value of its newest
// record.
type binding[T any] struct {
	slot.Slot
	node  *ledger.Node
	ns    *Namespace
	d     *definition[T]
	in    *Batch // nil outside a Commit
	cache atomic.Pointer[reading[T]]
	known atomic.Bool // the node empties the slot
}

func newBinding[T any](ns *Namespace, d *definition[T], in *Batch) *binding[T] {
	return bindTo(ns.l.Node(d.name), ns, d, in)
}

// passing returns a binding for one operation.
func passing[T any](ns *Namespace, d *definition[T], in *Batch) *binding[T] {
	return bindTo(ns.l.Passing(d.name), ns, d, in)
}

func bindTo[T any](n *ledger.Node, ns *Namespace, d *definition[T], in *Batch) *binding[T] {
	b := &binding[T]{ns: ns, d: d, node: n, in: in}
	b.Find = func() unsafe.Pointer {
		r := b.variable().read()
		if d.clone == nil {
			return unsafe.Pointer(&r.x) // a reading never changes
		}
		x := d.copied(r.x)
		return unsafe.Pointer(&x)
	}
	return b
}

func (b *binding[T]) variable() Var[T] { return Var[T]{b, &b.Slot} }

// A reading is what a record means to a key. It is immutable.
type reading[T any] struct {
	rec   *ledger.Record
	val   value.Value // the record's value, unsealed
	x     T           // the default, if no usable value is stored
	found bool
	err   error
}

// In returns the variable for this key in a namespace or in a batch.
func (k Key[T]) In(at Local) Var[T] {
	d := k.definition()
	if at == nil {
		misuse("In of %s needs a *Namespace or a *Batch, not nil", d.name)
	}
	ns := at.namespace()
	ns.noteUse(d.name, d.family)
	if first, ok := ns.used.Load(d.name); d.family == "" && (!ok || first.(usedKey).def != any(d)) {
		ns.firstUse(d, declarations(k)[0], d.unkept, d.sealed)
	}
	return newBinding(ns, d, at.batch()).variable()
}

func (v Var[T]) binding() *binding[T] {
	if v.b == nil {
		misuse("a zero Var was used; get one from Key.In")
	}
	return v.b
}

// Get returns the stored value, or the key's default if nothing is stored or the stored value can't
// be used. An unusable value is reported as a Problem. Get never fails and never waits. The caller
// owns the value: changing it changes nothing that is stored. Get allocates nothing if T holds no
// slice, map, pointer or interface.
func (v Var[T]) Get() T { return *(*T)(v.s.Load()) }

// Lookup returns the stored value and distinguishes four cases. A value is stored: found, no error.
// Nothing is stored: not found, no error. The stored value has another kind: ErrWrongKind. It
// breaks the key's rules or its type's range: ErrInvalid. In the last three cases x is the default.
func (v Var[T]) Lookup() (x T, found bool, err error) {
	b := v.binding()
	r := v.read()
	return b.d.copied(r.x), r.found, b.fail("look up", r.err)
}

// read returns the newest reading, or in a batch the reading of the batch.
func (v Var[T]) read() *reading[T] {
	b := v.binding()
	if v.b.in != nil {
		b.node.MarkRead()
		return b.decode(v.b.in.record(b.node))
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
func (b *binding[T]) refresh() *reading[T] {
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
func (b *binding[T]) makeReady(r *reading[T]) {
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
	b.node.IfNewest(r.rec, func() { b.Fill(unsafe.Pointer(&r.x)) })
}

func (b *binding[T]) decode(rec *ledger.Record) *reading[T] {
	r := new(reading[T])
	b.decodeInto(r, rec)
	return r
}

func (b *binding[T]) decodeInto(r *reading[T], rec *ledger.Record) {
	*r = reading[T]{rec: rec, x: b.d.def}
	if !rec.Found() {
		return
	}
	r.found = true
	v, err := b.plain(rec)
	r.val = rec.Value
	var x T
	if err == nil {
		x, err = b.d.decode(v)
	}
	if err != nil {
		r.err = unusable(rec.Value, err)
		return
	}
	r.x, r.val = x, v
}

// merged returns val with the stored members that the key's struct does not know.
func (r *reading[T]) merged(val value.Value, d *definition[T]) value.Value {
	if d.merge == nil || r.err != nil {
		return val
	}
	return d.merge(val, r.val)
}

func (k Key[T]) examine(ns *Namespace) {
	b := newBinding(ns, k.definition(), nil)
	if r := b.decode(b.node.Record()); r.err != nil {
		ns.prob.report(k.d.name, r.rec, r.err)
	}
}

func (b *binding[T]) fail(op string, err error) error {
	return wrap(op, b.ns.name, b.d.name, err)
}

// Set stores x. When it returns nil, x is on disk and visible. Otherwise nothing has changed. Set
// replaces a stored value of any kind. A Set of the stored value writes nothing. A Set of the
// default while nothing is stored does write.
//
// The errors are ErrInvalid if x breaks the key's rules; ErrTooLarge; ErrClosed; ErrReadOnly;
// ErrBusy; and ErrNotStored or ErrUncertain if the disk fails. A sync can take tens of
// milliseconds, so don't call Set on the thread that draws.
func (v Var[T]) Set(x T) error {
	b := v.binding()
	val, err := b.d.encode(x)
	if err != nil {
		return v.refuse("set", err)
	}
	if b.in != nil && b.d.merge == nil && !b.d.sealed { // Put replaces any stored value, so it is not read
		b.node.MarkWritten()
		return b.in.edit("set", b.d.name, func() error { return b.fail("set", b.in.set(b.d.name, val)) })
	}
	if b.in != nil || b.d.merge != nil || b.d.sealed {
		return v.write("set", func(old *reading[T]) (value.Value, error) {
			return old.merged(val, b.d), nil
		})
	}
	enc, err := b.ns.encode(b.d.name, val)
	if err != nil {
		return b.fail("set", err)
	}
	o := b.newOperation()
	o.enc, o.always = enc, true
	_, err = o.commit("set")
	return err
}

// refuse returns the error for a value that is refused before it is written. A batch keeps it.
func (v Var[T]) refuse(op string, err error) error {
	if v.b.in == nil {
		return v.b.fail(op, err)
	}
	return v.write(op, func(*reading[T]) (value.Value, error) { return value.Value{}, err })
}

// Seed stores x if nothing is stored, and otherwise changes nothing. The errors are those of Set.
func (v Var[T]) Seed(x T) error {
	val, err := v.binding().d.encode(x)
	return v.write("seed", func(old *reading[T]) (value.Value, error) {
		if err == nil && old.found {
			return val, errAsItIs
		}
		return val, err
	})
}

// Clear removes the entry, of any kind. Get then returns the default. Clearing an absent
// entry is no error.
func (v Var[T]) Clear() error {
	return v.write("clear", func(*reading[T]) (value.Value, error) { return value.Value{}, nil })
}

// Update stores the value that f returns for the present value, or for the default if nothing is
// stored. It returns the value that is stored then. No concurrent change is lost: if the entry
// changed while f ran, f runs again. So f must have no side effects and must not write. If f
// returns an error, Update returns it and changes nothing.
//
// Update does not pass an unusable stored value to f. It returns ErrWrongKind or ErrInvalid, since
// a default must not overwrite the stored value. Set and Clear overwrite it on purpose. Other
// errors are those of Set.
func (v Var[T]) Update(f func(old T) (T, error)) (now T, err error) {
	return v.update(f, func(*reading[T]) error { return nil })
}

// update is Update with a guard that can refuse the present value.
func (v Var[T]) update(f func(old T) (T, error), guard func(*reading[T]) error) (now T, err error) {
	b := v.binding()
	step := func(old *reading[T]) (value.Value, error) {
		if err := guard(old); err != nil {
			return value.Value{}, err
		}
		if old.err != nil {
			return value.Value{}, old.err
		}
		next, err := f(b.d.copied(old.x))
		if err != nil {
			return value.Value{}, callerError{err}
		}
		val, err := b.d.encode(next)
		if err != nil {
			return value.Value{}, err
		}
		val = old.merged(val, b.d)
		now, err = b.d.dec(val)
		return val, err
	}
	if v.b.in != nil {
		err = v.write("update", step)
		return v.after(now, err)
	}
	b.node.MarkWritten()
	if b.ns.twice {
		_, _ = step(b.decode(b.node.Record())) // only its side effects matter
	}
	err = again(func(last bool) error {
		if last {
			o := b.newOperation()
			o.f = step
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
	return v.after(now, err)
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

// Watch yields the value now, and then the newest value after each change by any program. One loop
// body serves the first value and later ones. A slow body skips values, but never the last one. The
// loop ends when the body breaks, ctx ends, or the namespace is closed. The body can write, and can
// close the namespace. Values that can't be used are yielded as the default.
func (v Var[T]) Watch(ctx context.Context) iter.Seq[T] {
	b := v.binding()
	if v.b.in != nil {
		misuse("Watch of %s in a batch: watch the variable of the namespace", b.d.name)
	}
	return func(yield func(T) bool) {
		w := b.ns.l.Watch([]string{b.d.name}, nil)
		defer w.Close()
		if ctx.Err() != nil || b.ns.closed.Load() {
			return
		}
		r := v.read()
		for {
			if !yield(b.d.copied(r.x)) {
				return
			}
			for old := r; r.rec == old.rec; r = v.read() {
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
