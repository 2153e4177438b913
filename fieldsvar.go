package pantry

import (
	"context"
	"errors"
	"iter"
	"sync/atomic"

	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A FieldsVar is a FieldsKey in a namespace or a batch. It is safe for concurrent use.
type FieldsVar[T any] struct {
	_ [0]*T // so that a FieldsVar can't be converted to one of another type
	b *fieldsBinding
}

// A fieldsBinding is what all copies of a FieldsVar share.
type fieldsBinding struct {
	ns    *Namespace
	in    *Batch // nil outside a Commit
	d     *fieldsDefinition
	nodes []*ledger.Node
	cache atomic.Pointer[fieldsReading]
}

// A fieldsReading is the fields as of one moment. It is immutable.
type fieldsReading struct {
	recs  []*ledger.Record
	x     any     // a *T
	found bool    // at least one field is stored
	errs  []error // by field
}

// In returns the variable for this key in a namespace or in a batch.
func (k FieldsKey[T]) In(at Local) FieldsVar[T] {
	if at == nil {
		misuse("In of %s needs a *Namespace or a *Batch, not nil", k.Name())
	}
	b := k.definition().bind(at.namespace())
	b.in = at.batch()
	return FieldsVar[T]{b: b}
}

func (d *fieldsDefinition) bind(ns *Namespace) *fieldsBinding {
	b := &fieldsBinding{ns: ns, d: d}
	for _, f := range b.d.fields {
		ns.noteUse(f.name, "")
		b.nodes = append(b.nodes, ns.l.Node(f.name))
	}
	return b
}

func (v FieldsVar[T]) binding() *fieldsBinding {
	if v.b == nil {
		misuse("a zero FieldsVar was used; get one from FieldsKey.In")
	}
	return v.b
}

// read returns the fields as of one moment.
func (b *fieldsBinding) read() *fieldsReading {
	for _, n := range b.nodes {
		n.MarkRead()
	}
	if b.in == nil {
		return b.moment()
	}
	recs := make([]*ledger.Record, len(b.nodes))
	for i, n := range b.nodes {
		recs[i] = b.in.record(n)
	}
	return b.decode(recs)
}

func (b *fieldsBinding) moment() *fieldsReading {
	old := b.cache.Load()
	var have []*ledger.Record
	if old != nil {
		have = old.recs
	}
	recs, same := b.ns.l.Moment(b.nodes, have)
	if same {
		return old
	}
	r := b.decode(recs)
	for i, err := range r.errs {
		if err != nil {
			b.ns.prob.report(b.d.fields[i].name, r.recs[i], err)
		}
	}
	b.cache.Store(r)
	return r
}

func (b *fieldsBinding) decode(recs []*ledger.Record) *fieldsReading {
	r := &fieldsReading{recs: recs}
	r.x, r.found, r.errs = b.d.decode(func(i int) value.Value { return recs[i].Value })
	return r
}

// Get returns the struct as of one moment, with the default for each field that is absent or
// unusable. It never fails. The caller owns the struct.
func (v FieldsVar[T]) Get() T { return keydef.Value[T](v.binding().get()) }

func (b *fieldsBinding) get() any { return b.d.Copy(b.read().x) }

// Lookup returns the struct, and reports whether any field is stored and which fields are unusable:
// the error joins an *Error for each. A struct that breaks the key's rules is ErrInvalid.
func (v FieldsVar[T]) Lookup() (x T, found bool, err error) {
	all, found, err := v.binding().lookup()
	return keydef.Value[T](all), found, err
}

func (b *fieldsBinding) lookup() (x any, found bool, err error) {
	r := b.read()
	var errs []error
	for i, err := range r.errs {
		errs = append(errs, wrap("look up", b.ns.name, b.d.fields[i].name, err))
	}
	if err := checkAll(b.d.rules, r.x); err != nil {
		errs = append(errs, wrap("look up", b.ns.name, b.d.name, err))
	}
	return b.d.Copy(r.x), r.found, errors.Join(errs...)
}

// Set stores the fields of x that differ from the result of Get, in one commit. The errors are
// those of Var.Set.
func (v FieldsVar[T]) Set(x T) error {
	return v.binding().change("set", false, func(any) (any, error) { return &x, nil })
}

// Update stores the fields that f changes, in one commit. Other writers can change the other fields
// meanwhile. f can run several times. Update does not change a field whose stored value is
// unusable: that is ErrWrongKind or ErrInvalid. If f returns an error, Update returns it. Other
// errors are those of Var.Set.
func (v FieldsVar[T]) Update(f func(old T) (T, error)) (now T, err error) {
	err = v.binding().change("update", true, keydef.Update(f))
	return v.Get(), err
}

// Clear removes all fields. Get then returns the defaults.
func (v FieldsVar[T]) Clear() error { return v.binding().clear() }

func (b *fieldsBinding) clear() error {
	return b.inBatch("clear", func(batch *Batch) error {
		for _, f := range b.d.fields {
			if err := batch.set(f.name, value.Value{}); err != nil {
				return err
			}
		}
		return nil
	})
}

// change stores the fields that f changes. With careful, it does not change an unusable one.
func (b *fieldsBinding) change(op string, careful bool, f func(any) (any, error)) error {
	return b.inBatch(op, func(batch *Batch) error {
		old := (&fieldsBinding{ns: b.ns, in: batch, d: b.d, nodes: b.nodes}).read()
		next, err := f(b.d.Copy(old.x))
		if err != nil {
			return callerError{err}
		}
		if err := checkAll(b.d.rules, next); err != nil {
			return wrap(op, b.ns.name, b.d.name, err)
		}
		for i, f := range b.d.fields {
			before, err1 := f.enc(f.in(old.x), 0)
			after, err2 := f.enc(f.in(next), 0)
			err := errors.Join(err1, err2)
			if err == nil && value.Equal(before, after) {
				continue
			}
			if err == nil && f.key != nil {
				after, err = f.key.behind().Kept(after)
			}
			if err == nil && careful {
				err = old.errs[i]
			}
			if err == nil {
				b.nodes[i].MarkWritten()
				err = batch.set(f.name, after)
			}
			if err != nil {
				return wrap(op, b.ns.name, f.name, err)
			}
		}
		return nil
	})
}

// inBatch makes a change in the variable's batch, or in a batch of its own.
func (b *fieldsBinding) inBatch(op string, change func(*Batch) error) error {
	if b.in != nil {
		return b.in.edit(op, b.d.name, func() error { return change(b.in) })
	}
	return b.ns.Commit(change)
}

// Watch yields the struct now, and then the newest after each change of a field: see Var.Watch.
func (v FieldsVar[T]) Watch(ctx context.Context) iter.Seq[T] {
	return keydef.Values[T](v.binding().watch(ctx))
}

func (b *fieldsBinding) watch(ctx context.Context) iter.Seq[any] {
	if b.in != nil {
		misuse("Watch of %s in a batch: watch the variable of the namespace", b.d.name)
	}
	return func(yield func(any) bool) {
		for range b.ns.watch(ctx, b.d.names(), nil) {
			if !yield(b.get()) {
				return
			}
		}
	}
}
