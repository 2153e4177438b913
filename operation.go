package pantry

import (
	"errors"
	"fmt"
	"iter"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// Add adds n to the variable and gives what is stored now. Adding is one step:
// two phones or two goroutines that add at once are both counted. An absent
// entry starts from the key's default. A result outside the key's Between, or
// outside T's range, is ErrInvalid and changes nothing; an entry of another
// kind is ErrWrongKind. Other errors are those of Set.
func Add[T Number](v Var[T], n T) (T, error) { return onNumber(v, value.Add, n) }

// Raise makes the variable n where it is smaller. Errors are those of Add.
func Raise[T Number](v Var[T], n T) (T, error) { return onNumber(v, value.Raise, n) }

// Lower makes the variable n where it is larger. Errors are those of Add.
func Lower[T Number](v Var[T], n T) (T, error) { return onNumber(v, value.Lower, n) }

func onNumber[T Number](v Var[T], verb value.Verb, n T) (now T, err error) {
	operand, err := v.binding().d.enc(n)
	if err != nil {
		return now, v.refuse(verb.String(), err)
	}
	return v.operate(value.Op{Verb: verb, Operand: operand})
}

// Append adds items at the end of the list and gives the list as it is stored
// now. With the key's Keep, the oldest leave at the front. An absent entry
// starts from the key's default. Errors are those of Update.
func Append[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Append}, items)
}

// AppendUnique is Append that leaves out an item which is in the list already.
func AppendUnique[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Append, Unique: true}, items)
}

// Remove takes, for each of items, the first item that equals it out of the
// list, and gives the list as it is stored now. Errors are those of Update.
func Remove[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Remove}, items)
}

// RemoveAll takes every item that equals one of items out of the list, and
// gives the list as it is stored now. Errors are those of Update.
func RemoveAll[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, value.Op{Verb: value.Remove, All: true}, items)
}

// onList makes op with each of items as its operand, in one commit.
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

// Take takes the item at a position out of the list and gives it: 0 is the
// first, -1 the last. Where the list has no such item, found is false and
// nothing is changed. An absent entry starts from the key's default. Errors are
// those of Update.
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
		misuse("%s of %s takes a List key, not %s", verb, d.name, d.kind)
	}
	return d
}

// Each walks over the list without copying it: the items are the store's own
// and must not be changed. It sees the list as it is when the walk starts; the
// body may write.
func Each[S ~[]E, E any](v Var[S]) iter.Seq2[int, E] {
	return func(yield func(int, E) bool) {
		for i, item := range v.read().x {
			if !yield(i, item) {
				return
			}
		}
	}
}

// operate makes operations, in order, on what is stored or else on the
// default, and gives what is stored then or, when they are refused, what is there.
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

// after gives what an operation stored or, when it failed, what is there.
func (v Var[T]) after(now T, err error) (T, error) {
	if err != nil {
		return v.b.d.copied(v.read().x), err
	}
	return now, nil
}

// errAsItIs says that what is stored is to stay as it is.
var errAsItIs = errors.New("as it is")

// write is how what is no plain Set and no operation reaches the store: f sees
// what is stored and gives the value to store, none to remove the entry, or
// errAsItIs. It must have no side effects but on what its last run leaves.
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
			b.in.forget = append(b.in.forget, b.d.name)
		}
		return b.fail(op, err)
	})
}

// An operation is one write to one variable on its way to the store. What it
// makes of the newest record is worked out before it queues, and only when
// another commit came between is it worked out again in its turn, which must
// be quick. They are used again, since each is a good deal of memory.
type operation[T any] struct {
	b *binding[T]

	// One of these tells what to store: ops are made in order on what is stored;
	// f sees that, and gives the value, or none to remove the entry; with always
	// it is enc, whatever is stored. They may be worked out several times.
	ops    []value.Op
	f      func(old *reading[T]) (value.Value, error)
	always bool

	rec  *ledger.Record // what the following was made of
	old  reading[T]
	enc  ledger.Encoded
	drop bool
	err  error
	now  T // what the ops gave

	clear bool // the value of a sealed key stood there in the clear
}

func (b *binding[T]) newOperation() *operation[T] {
	o, _ := b.d.spare.Get().(*operation[T])
	if o == nil {
		o = new(operation[T])
	}
	o.b = b
	return o
}

// operated gives what the ops make of what is stored.
func (o *operation[T]) operated(old *reading[T]) (value.Value, error) {
	if old.err != nil {
		return value.Value{}, old.err // the default that stands in is not counted on
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

// judge works out what to make of a record.
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

// Judge makes the changes of the operation.
func (o *operation[T]) Judge(tx *ledger.Tx) error {
	b := o.b
	rec := tx.RecordOf(b.node)
	o.clear = b.inTheClear(rec)
	if !o.always && o.rec != rec {
		o.judge(rec)
	}
	switch {
	case o.err == errAsItIs:
		return nil
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
func (o *operation[T]) commit(verb string) (now T, err error) {
	b := o.b
	b.node.MarkWritten()
	if err := b.ns.mayWrite(); err != nil {
		return now, b.fail(verb, err)
	}
	_, err = b.ns.l.CommitWithin(b.ns.within, b.ns.author, o)
	now, clear := o.now, o.clear
	*o = operation[T]{ops: o.ops[:0]}
	b.d.spare.Put(o)
	if err == nil && clear {
		err = b.ns.l.Forget(b.d.name) // what stood there in the clear
	}
	return now, b.fail(verb, err)
}
