package pantry

import (
	"context"
	"errors"
	"iter"
	"reflect"
	"sync/atomic"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A FieldsVar is a FieldsKey in a namespace or a batch. It is safe for concurrent use.
type FieldsVar[T any] struct {
	b  *fieldsBinding[T]
	in *Batch
}

type fieldsBinding[T any] struct {
	ns    *Namespace
	d     *fieldsDef[T]
	nodes []*ledger.Node
	cache atomic.Pointer[fieldsReading[T]]
}

// A fieldsReading is the fields as of one moment. It is immutable.
type fieldsReading[T any] struct {
	recs  []*ledger.Record
	x     T
	found bool    // at least one field is stored
	errs  []error // by field
}

// In returns the variable for this key in a namespace or in a batch.
func (k FieldsKey[T]) In(at Local) FieldsVar[T] {
	if at == nil {
		misuse("In of %s needs a *Namespace or a *Batch, not nil", k.Name())
	}
	return FieldsVar[T]{k.bind(at.namespace()), at.batch()}
}

func (k FieldsKey[T]) bind(ns *Namespace) *fieldsBinding[T] {
	b := &fieldsBinding[T]{ns: ns, d: k.definition()}
	for _, f := range b.d.fields {
		ns.noteUse(f.name, "")
		b.nodes = append(b.nodes, ns.l.Node(f.name))
	}
	return b
}

func (v FieldsVar[T]) binding() *fieldsBinding[T] {
	if v.b == nil {
		misuse("a zero FieldsVar was used; get one from FieldsKey.In")
	}
	return v.b
}

// read returns the fields as of one moment.
func (v FieldsVar[T]) read() *fieldsReading[T] {
	b := v.binding()
	for _, n := range b.nodes {
		n.MarkRead()
	}
	if v.in == nil {
		return b.moment()
	}
	recs := make([]*ledger.Record, len(b.nodes))
	for i, n := range b.nodes {
		recs[i] = v.in.record(n)
	}
	return b.decode(recs)
}

func (b *fieldsBinding[T]) moment() *fieldsReading[T] {
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

func (b *fieldsBinding[T]) decode(recs []*ledger.Record) *fieldsReading[T] {
	r := &fieldsReading[T]{recs: recs}
	r.x, r.found, r.errs = b.d.decode(func(i int) value.Value { return recs[i].Value })
	return r
}

// Get returns the struct as of one moment, with the default for each field that is absent or
// unusable. It never fails. The caller owns the struct.
func (v FieldsVar[T]) Get() T { return v.binding().d.copied(v.read().x) }

// Lookup returns the struct, and reports whether any field is stored and which fields are unusable:
// the error joins an *Error for each. A struct that breaks the key's rules is ErrInvalid.
func (v FieldsVar[T]) Lookup() (x T, found bool, err error) {
	b, r := v.binding(), v.read()
	var errs []error
	for i, err := range r.errs {
		errs = append(errs, wrap("look up", b.ns.name, b.d.fields[i].name, err))
	}
	if err := b.d.check(r.x); err != nil {
		errs = append(errs, wrap("look up", b.ns.name, b.d.name, err))
	}
	return b.d.copied(r.x), r.found, errors.Join(errs...)
}

// Set stores the fields of x that differ from the result of Get, in one commit. The errors are
// those of Var.Set.
func (v FieldsVar[T]) Set(x T) error {
	return v.change("set", false, func(T) (T, error) { return x, nil })
}

// Update stores the fields that f changes, in one commit. Other writers can change the other fields
// meanwhile. f can run several times. Update does not change a field whose stored value is
// unusable: that is ErrWrongKind or ErrInvalid. If f returns an error, Update returns it. Other
// errors are those of Var.Set.
func (v FieldsVar[T]) Update(f func(old T) (T, error)) (now T, err error) {
	err = v.change("update", true, f)
	return v.Get(), err
}

// Clear removes all fields. Get then returns the defaults.
func (v FieldsVar[T]) Clear() error {
	b := v.binding()
	return v.inBatch("clear", func(batch *Batch) error {
		for _, f := range b.d.fields {
			if err := batch.set(f.name, value.Value{}); err != nil {
				return err
			}
		}
		return nil
	})
}

func (v FieldsVar[T]) change(op string, careful bool, f func(T) (T, error)) error {
	b := v.binding()
	return v.inBatch(op, func(batch *Batch) error {
		old := FieldsVar[T]{b, batch}.read()
		next, err := f(b.d.copied(old.x))
		if err != nil {
			return callerError{err}
		}
		if err := b.d.check(next); err != nil {
			return wrap(op, b.ns.name, b.d.name, err)
		}
		for i, f := range b.d.fields {
			before, err1 := f.enc(reflect.ValueOf(&old.x).Elem().FieldByIndex(f.index), 0)
			after, err2 := f.enc(reflect.ValueOf(&next).Elem().FieldByIndex(f.index), 0)
			err := errors.Join(err1, err2)
			if err == nil && value.Equal(before, after) {
				continue
			}
			if err == nil && f.key != nil {
				after, err = f.key.kept(after)
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
func (v FieldsVar[T]) inBatch(op string, change func(*Batch) error) error {
	if v.in != nil {
		return v.in.edit(op, v.b.d.name, func() error { return change(v.in) })
	}
	return v.b.ns.Commit(change)
}

// Watch yields the struct now, and then the newest after each change of a field: see Var.Watch.
func (v FieldsVar[T]) Watch(ctx context.Context) iter.Seq[T] {
	b := v.binding()
	if v.in != nil {
		misuse("Watch of %s in a batch: watch the variable of the namespace", b.d.name)
	}
	return func(yield func(T) bool) {
		for range b.ns.watch(ctx, FieldsKey[T]{b.d}.Names(), nil) {
			if !yield(v.Get()) {
				return
			}
		}
	}
}
