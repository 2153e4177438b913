package pantry

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync/atomic"
	"weak"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A Var is a key that lives somewhere: in a namespace, or in a batch. It is a
// small value to copy and keep, and safe for concurrent use; bind it once with
// Key.In rather than at each use, and reading costs a few nanoseconds. The
// zero Var panics.
type Var[T any] struct{ b *binding[T] }

// A binding is what the copies of a Var share: the entry's place and the
// decoded value of its newest record.
type binding[T any] struct {
	// What Get can hand out at once: what the newest record means. It is nil
	// when that is not known yet, in a batch, and where T refers to memory that
	// must be copied. Whoever makes another record the newest puts nil there
	// first, so that Get need not look at the record.
	ready atomic.Pointer[reading[T]]
	node  *ledger.Node
	ns    *Namespace
	d     *definition[T]
	in    *Batch // nil outside a Commit
	cache atomic.Pointer[reading[T]]
	known atomic.Bool // the node knows of ready
}

func newBinding[T any](ns *Namespace, d *definition[T], in *Batch) *binding[T] {
	return &binding[T]{ns: ns, d: d, node: ns.l.Node(d.name), in: in}
}

// passing is newBinding for one operation.
func passing[T any](ns *Namespace, d *definition[T], in *Batch) *binding[T] {
	return &binding[T]{ns: ns, d: d, node: ns.l.Passing(d.name), in: in}
}

// A reading is what a record means to a key. It never changes.
type reading[T any] struct {
	rec   *ledger.Record
	val   value.Value // as it is when it is not sealed
	x     T           // the default, where nothing usable is stored
	found bool
	err   error
}

// In gives the variable that this key is in a namespace, or in a batch.
func (k Key[T]) In(at Local) Var[T] {
	d := k.definition()
	if at == nil {
		misuse("In of %s takes a *Namespace or a *Batch, not nil", d.name)
	}
	ns := at.namespace()
	ns.noteUse(d.name, d.family)
	return Var[T]{newBinding(ns, d, at.batch())}
}

func (v Var[T]) binding() *binding[T] {
	if v.b == nil {
		misuse("a zero Var was used; get one from Key.In")
	}
	return v.b
}

// Get gives the stored value, or the key's default where nothing is stored or
// what is stored can't be used, which is reported as a Problem. It never
// fails and never waits. The value is the caller's own: changing it changes
// nothing that is stored. Where T holds no slice, map, pointer or interface,
// Get allocates nothing.
func (v Var[T]) Get() T {
	if v.b != nil {
		if r := v.b.ready.Load(); r != nil {
			return r.x
		}
	}
	return v.get()
}

func (v Var[T]) get() T { return v.binding().d.copied(v.read().x) }

// Lookup is Get that tells four answers apart: a value is stored (found, no
// error); nothing is stored (not found, no error); what is stored is of
// another kind (ErrWrongKind); or it breaks the key's rules or its type's
// range (ErrInvalid). In the last three x is the default.
func (v Var[T]) Lookup() (x T, found bool, err error) {
	b := v.binding()
	r := v.read()
	return b.d.copied(r.x), r.found, b.fail("look up", r.err)
}

// read gives the newest reading, in a batch that of the batch.
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
	case b.d.clone == nil && b.ready.Load() == nil:
		b.makeReady(r)
	}
	return r
}

// refresh decodes the newest record and reports what can't be used.
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

// makeReady lets Get hand out r for as long as its record is the newest, once
// the node knows of ready. That is from the second Get on, since many a Var is
// used once; and the node must not keep a binding alive that nobody has any more.
func (b *binding[T]) makeReady(r *reading[T]) {
	if !b.known.Load() {
		weakly := weak.Make(b)
		known := b.node.OnChange(func() bool {
			b := weakly.Value()
			if b == nil {
				return false
			}
			b.ready.Store(nil)
			return true
		})
		if !known {
			return
		}
		b.known.Store(true) // two at once register twice, which does no harm
	}
	b.node.IfNewest(r.rec, func() { b.ready.Store(r) })
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

// merged gives val with what the stored value tells beyond the key's fields.
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

// Set stores x. When it returns nil, x is on the disk and visible; otherwise
// nothing has changed. It replaces whatever is stored, of whichever kind. A
// Set to what is stored already writes nothing; a Set of the default where
// nothing is stored does.
//
// The errors are ErrInvalid for a value against the key's rules; ErrTooLarge;
// ErrClosed; ErrReadOnly; ErrBusy; ErrNotStored and ErrUncertain from the
// disk. Since a sync can take tens of milliseconds, don't call Set on the
// thread that draws.
func (v Var[T]) Set(x T) error {
	b := v.binding()
	val, err := b.d.encode(x)
	if err != nil {
		return v.refuse("set", err)
	}
	if b.in != nil && b.d.merge == nil && !b.d.sealed { // whatever is stored, it need not be read
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

// refuse gives the error for a value that is refused before it is tried, which
// a batch keeps.
func (v Var[T]) refuse(op string, err error) error {
	if v.b.in == nil {
		return v.b.fail(op, err)
	}
	return v.write(op, func(*reading[T]) (value.Value, error) { return value.Value{}, err })
}

// Seed stores x where nothing is stored, and otherwise changes nothing,
// whatever is stored. The errors are those of Set.
func (v Var[T]) Seed(x T) error {
	val, err := v.binding().d.encode(x)
	return v.write("seed", func(old *reading[T]) (value.Value, error) {
		if err == nil && old.found {
			return val, errAsItIs
		}
		return val, err
	})
}

// Clear removes the entry, whatever it holds, so that Get gives the default.
// Clearing what is not stored is no error.
func (v Var[T]) Clear() error {
	return v.write("clear", func(*reading[T]) (value.Value, error) { return value.Value{}, nil })
}

// Update stores what f makes of the present value, or of the default where
// nothing is stored, and gives what is stored now. Nothing that others write
// meanwhile is lost: when the entry changed while f ran, f runs again, so it
// must have no side effects and must not write. What f returns as its error,
// Update returns, and changes nothing.
//
// What is stored but can't be used is not given to f: Update then returns
// ErrWrongKind or ErrInvalid, since the default that stands in must not be
// written over it. Set and Clear do that on purpose. Other errors are those of Set.
func (v Var[T]) Update(f func(old T) (T, error)) (now T, err error) {
	return v.update(f, func(*reading[T]) error { return nil })
}

// update is Update where guard may refuse what is there.
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

// errChanged says that what a function had read was changed before its commit.
var errChanged = errors.New("changed meanwhile")

// again calls try until it doesn't meet errChanged. After 8 tries comes one
// with last set, which must do its work under the lock, where nothing changes.
func again(try func(last bool) error) error {
	for range 8 {
		if err := try(false); !errors.Is(err, errChanged) {
			return err
		}
	}
	return try(true)
}

// Watch gives the value now, and then the newest after each change, by
// whichever program: one body for the first sight and for each later one. A
// slow body skips values, but never the last one. It ends when the body breaks
// off, ctx ends, or the namespace is closed. The body may write, and close the
// namespace. Values that can't be used come as the default.
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

// unusable is the error for a stored value that its key can't use.
func unusable(v value.Value, err error) error {
	if v.Kind() == value.KindSealed {
		return fmt.Errorf("what is stored can't be used: %w", err)
	}
	return fmt.Errorf("%s is stored, which can't be used: %w", entry.Quoted(v), err)
}
