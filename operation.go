package pantry

import (
	"errors"
	"fmt"
	"iter"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// Add adds n to the variable and returns the value that is stored then. It is one step: concurrent
// Adds are all counted. An absent entry starts from the key's default. A result outside the key's
// Between or outside T's range is ErrInvalid and changes nothing. An entry of another kind is
// ErrWrongKind. Other errors are those of Set.
func Add[T Number](v Var[T], n T) (T, error) { return onNumber(v, value.Add, n) }

// Raise sets the variable to n if it is smaller. Errors are those of Add.
func Raise[T Number](v Var[T], n T) (T, error) { return onNumber(v, value.Raise, n) }

// Lower sets the variable to n if it is larger. Errors are those of Add.
func Lower[T Number](v Var[T], n T) (T, error) { return onNumber(v, value.Lower, n) }

func onNumber[T Number](v Var[T], verb value.Verb, n T) (now T, err error) {
	operand, err := v.binding().d.enc(n)
	if err != nil {
		return now, v.refuse(verb.String(), err)
	}
	return v.operate(value.Op{Verb: verb, Operand: operand})
}

// Append adds items at the end of the list and returns the list that is stored then. With the key's
// Keep, the oldest items are removed. An absent entry starts from the key's default. Errors are
// those of Update.
func Append[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Append}, items)
}

// AppendUnique is Append without the items that the list holds already.
func AppendUnique[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Append, Unique: true}, items)
}

// Remove removes, for each of items, the first equal item of the list. It returns the list that is
// stored then. Errors are those of Update.
func Remove[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Remove}, items)
}

// RemoveAll removes every item that equals one of items, and returns the list that is stored then.
// Errors are those of Update.
func RemoveAll[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Remove, All: true}, items)
}

// onList applies op with each of items as its operand, in one commit.
func onList[S ~[]E, E any](v Var[S], op value.Op, items []E) (now S, err error) {
	d := v.listOf(op.Verb)
	given, err := d.enc(S(items))
	if err != nil {
		return now, v.refuse(op.Verb.String(), fmt.Errorf("%w: %w", ErrInvalid, err))
	}
	op.Keep = d.keep
	ops := make([]value.Op, given.Len())
	for i := range ops {
		ops[i] = op
		ops[i].Operand = given.Item(i)
	}
	return v.operate(ops...)
}

// Take removes the item at a position from the list and returns it: 0 is the first item, -1 the
// last. If the list has no such item, found is false and nothing changes. An absent entry starts
// from the key's default. Errors are those of Update.
func Take[S ~[]E, E any](v Var[S], at int) (item E, found bool, err error) {
	d := v.listOf(value.Take)
	var list S
	op := value.Op{Verb: value.Take, At: at}
	err = v.write(op.Verb.String(), func(old *reading[S]) (value.Value, error) {
		found = false
		if old.err != nil {
			return value.Value{}, old.err
		}
		op.Start = d.start
		next, taken, err := op.Apply(old.val)
		switch {
		case errors.Is(err, ErrAbsent):
			return value.Value{}, errAsItIs
		case err != nil:
			return value.Value{}, err
		}
		found = true // of the last run
		list, err = d.dec(value.List(taken))
		return next, err
	})
	if err != nil || !found {
		return item, false, err
	}
	return list[0], true, nil
}

func (v Var[T]) listOf(verb value.Verb) *definition[T] {
	d := v.binding().d
	if d.kind != value.KindList {
		misuse("%s of %s needs a List key, not %s", verb, d.name, d.kind)
	}
	return d
}

// Each iterates over the list without copying it. The items belong to the store and must not be
// changed. Each sees the list as it is when the loop starts. The body can write.
func Each[S ~[]E, E any](v Var[S]) iter.Seq2[int, E] {
	return func(yield func(int, E) bool) {
		for i, item := range v.read().x {
			if !yield(i, item) {
				return
			}
		}
	}
}

// operate applies operations in order to the stored value or the default. It returns the value that
// is stored then, or the present value if they are refused.
func (v Var[T]) operate(ops ...value.Op) (now T, err error) {
	b := v.binding()
	if len(ops) == 0 {
		return v.Get(), nil
	}
	verb := ops[0].Verb.String()
	if b.in != nil {
		o := operation[T]{b: b, ops: ops}
		err = v.writeInBatch(verb, o.operated)
		now = o.now
	} else {
		o := b.newOperation()
		o.ops = append(o.ops[:0], ops...)
		o.judge(b.node.Record())
		now, err = o.commit(verb)
	}
	return v.after(now, err)
}

// after returns the value that an operation stored, or the present value if it failed.
func (v Var[T]) after(now T, err error) (T, error) {
	if err != nil {
		return v.b.d.copied(v.read().x), err
	}
	return now, nil
}

// errAsItIs means that the stored value stays unchanged.
var errAsItIs = errors.New("unchanged")

// write commits a change that is neither a plain Set nor an operation. f receives the stored value.
// It returns the value to store, the zero Value to remove the entry, or errAsItIs. f must have no
// side effects except for the results of its last run.
func (v Var[T]) write(op string, f func(old *reading[T]) (value.Value, error)) error {
	b := v.binding()
	if b.in != nil {
		return v.writeInBatch(op, f)
	}
	o := b.newOperation()
	o.f = f
	o.judge(b.node.Record())
	_, err := o.commit(op)
	return err
}

func (v Var[T]) writeInBatch(op string, f func(old *reading[T]) (value.Value, error)) error {
	b := v.b
	b.node.MarkWritten()
	return b.in.edit(op, b.d.name, func() error {
		old := b.in.record(b.node)
		val, err := f(b.decode(old))
		if err == errAsItIs {
			return nil
		}
		if err == nil {
			val, err = b.stored(val, old)
		}
		if err == nil {
			err = b.in.set(b.d.name, val)
		}
		if err == nil && b.inTheClear(old) {
			b.in.owes = append(b.in.owes, b.d.name)
		}
		return b.fail(op, err)
	})
}

// An operation is one write to one variable. It computes its result from the newest record before
// it queues. It computes it again, quickly, only if another commit came first. Operations are
// pooled, since each needs much memory.
type operation[T any] struct {
	b *binding[T]

	// Exactly one of these is set. ops are applied in order to the stored value. f receives it and
	// returns the value, or the zero Value to remove the entry. With always, enc is stored. They
	// can be evaluated several times.
	ops    []value.Op
	f      func(old *reading[T]) (value.Value, error)
	always bool

	rec  *ledger.Record // the record that the following was computed from
	old  reading[T]
	enc  ledger.Encoded
	drop bool
	err  error
	now  T // the results of ops

}

func (b *binding[T]) newOperation() *operation[T] {
	o, _ := b.d.spare.Get().(*operation[T])
	if o == nil {
		o = new(operation[T])
	}
	o.b = b
	return o
}

// operated returns the result of the ops on the stored value.
func (o *operation[T]) operated(old *reading[T]) (value.Value, error) {
	if old.err != nil {
		return value.Value{}, old.err // the default is not an operand
	}
	d := o.b.d
	now := old.val
	for i := range o.ops {
		op := &o.ops[i]
		op.Start = d.start
		var err error
		if now, _, err = op.Apply(now); err != nil {
			return value.Value{}, err
		}
	}
	var err error
	o.now, err = d.decode(now)
	return now, err
}

// judge computes the change for a record.
func (o *operation[T]) judge(rec *ledger.Record) {
	b := o.b
	old := b.cache.Load()
	if old == nil || old.rec != rec {
		b.decodeInto(&o.old, rec)
		old = &o.old
	}
	make := o.operated
	if o.f != nil {
		make = o.f
	}
	val, err := make(old)
	if err == nil {
		val, err = b.stored(val, rec)
	}
	o.rec, o.drop = rec, val.IsZero()
	if err == nil && !o.drop {
		o.enc, err = b.ns.encode(b.d.name, val)
	}
	o.err = err
}

// Judge adds the changes of the operation to tx.
func (o *operation[T]) Judge(tx *ledger.Tx) error {
	b := o.b
	if err := b.ns.checkSchema(tx); err != nil {
		return err
	}
	rec := tx.RecordOf(b.node)
	if !o.always && o.rec != rec {
		o.judge(rec)
	}
	switch {
	case o.err == errAsItIs:
		return nil
	case o.err != nil:
		return o.err
	}
	if b.inTheClear(rec) {
		tx.Owe(b.d.name)
	}
	if o.drop {
		tx.Drop(b.d.name)
		return nil
	}
	tx.PutTo(b.node, o.enc)
	return b.ns.checkLimit(tx)
}

// commit ends the operation, which must not be used afterwards.
func (o *operation[T]) commit(verb string) (now T, err error) {
	b := o.b
	b.node.MarkWritten()
	if err := b.ns.mayWrite(); err != nil {
		return now, b.fail(verb, err)
	}
	_, err = b.ns.l.CommitWithin(b.ns.within, b.ns.author, o)
	now = o.now
	*o = operation[T]{ops: o.ops[:0]}
	b.d.spare.Put(o)
	return now, b.fail(verb, err)
}
