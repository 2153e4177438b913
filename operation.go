package pantry

import (
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// An operation is one write to one variable on its way to the store. What it
// makes of the newest record is worked out before it queues, and only when
// another commit came between is it worked out again in its turn, which must
// be quick. Operations are used again, since each is a good deal of memory.
type operation[T any] struct {
	b *binding[T]

	// One of these tells what to store: f sees what is stored and gives the
	// value, or none to remove the entry; fold takes the number that is there
	// and the operand. Neither has side effects, since either may run twice.
	// With always it is enc, whatever is stored.
	f       func(old *reading[T]) (value.Value, error)
	fold    func(old, operand value.Value) (value.Value, error)
	operand value.Value
	always  bool

	rec  *ledger.Record // what the following was made of
	old  reading[T]
	enc  ledger.Encoded
	drop bool
	err  error
	now  T // what fold gave

	clear bool // the value to be sealed stood there in the clear
}

func (b *binding[T]) newOperation() *operation[T] {
	o, _ := b.d.spare.Get().(*operation[T])
	if o == nil {
		o = new(operation[T])
	}
	o.b = b
	return o
}

// write is how each operation on one variable but a plain Set reaches the
// store: f sees what is stored and gives the value to store, or none to remove
// the entry. It must have no side effects.
func (v Var[T]) write(op string, f func(old *reading[T]) (value.Value, error)) error {
	b := v.binding()
	if b.in != nil {
		return v.writeInBatch(op, f)
	}
	o := b.newOperation()
	o.f = f
	o.judge(b.node.Record())
	return o.commit(op)
}

func (v Var[T]) writeInBatch(op string, f func(old *reading[T]) (value.Value, error)) error {
	b := v.b
	b.node.MarkWritten()
	return b.in.edit(op, b.d.name, func() error {
		old := b.in.record(b.node)
		val, err := f(b.decode(old))
		if err == nil {
			val, err = b.stored(val, old)
		}
		if err == nil {
			err = b.in.set(b.d.name, val)
		}
		return b.fail(op, err)
	})
}

// fold is write for a number that an operand is added to, or that it bounds.
func (v Var[T]) fold(op string, operand value.Value, f func(old, operand value.Value) (value.Value, error)) (now T, err error) {
	b := v.binding()
	if b.in != nil {
		o := operation[T]{b: b, fold: f, operand: operand}
		err = v.writeInBatch(op, o.folded)
		return v.after(o.now, err)
	}
	o := b.newOperation()
	o.fold, o.operand = f, operand
	o.judge(b.node.Record())
	now, err = o.commitFold(op)
	return v.after(now, err)
}

func (o *operation[T]) folded(old *reading[T]) (value.Value, error) {
	if old.err != nil {
		return value.Value{}, old.err
	}
	d := o.b.d
	start, err := d.enc(old.x)
	if err != nil {
		return value.Value{}, err
	}
	val, err := o.fold(start, o.operand)
	if err != nil {
		return value.Value{}, err
	}
	o.now, err = d.decode(val)
	return val, err
}

// judge works out what to make of a record.
func (o *operation[T]) judge(rec *ledger.Record) {
	b := o.b
	old := b.cache.Load()
	if old == nil || old.rec != rec {
		b.decodeInto(&o.old, rec)
		old = &o.old
	}
	var val value.Value
	var err error
	if o.fold != nil {
		val, err = o.folded(old)
	} else {
		val, err = o.f(old)
	}
	if err == nil {
		val, err = b.stored(val, rec)
	}
	o.rec, o.drop = rec, val.IsZero()
	if err == nil && !o.drop {
		o.enc, err = b.ns.encode(b.d.name, val)
	}
	o.err = err
}

// Judge makes the changes of the operation.
func (o *operation[T]) Judge(tx *ledger.Tx) error {
	b := o.b
	rec := tx.RecordOf(b.node)
	o.clear = b.d.sealed && rec.Found() && rec.Value.Kind() != value.KindSealed
	if !o.always && o.rec != rec {
		o.judge(rec)
	}
	switch {
	case o.err != nil:
		return o.err
	case o.drop:
		tx.Drop(b.d.name)
		return nil
	}
	tx.PutTo(b.node, o.enc)
	return b.ns.checkLimit(tx)
}

// commit ends the operation, which must not be used any more.
func (o *operation[T]) commit(op string) error {
	_, err := o.commitFold(op)
	return err
}

func (o *operation[T]) commitFold(op string) (now T, err error) {
	b := o.b
	b.node.MarkWritten()
	if b.ns.closed.Load() {
		return now, b.fail(op, ErrClosed)
	}
	_, err = b.ns.l.CommitWithin(b.ns.within, b.ns.author, o)
	now, clear := o.now, o.clear
	*o = operation[T]{}
	b.d.spare.Put(o)
	if err == nil && clear {
		err = b.ns.l.Forget()
	}
	return now, b.fail(op, err)
}
