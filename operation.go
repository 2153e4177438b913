package pantry

import (
	"errors"
	"fmt"
	"iter"

	"github.com/small-pantry/pantry/internal/keydef"
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
	x, err := v.binding().onNumber(verb, &n)
	return keydef.Value[T](x), err
}

func (b *binding) onNumber(verb value.Verb, n any) (now any, err error) {
	operand, err := b.d.enc(n)
	if err != nil {
		return b.after(nil, b.refuse(verb.String(), err))
	}
	return b.operate(value.Op{Verb: verb, Operand: operand})
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

func onList[S ~[]E, E any](v Var[S], op value.Op, items []E) (now S, err error) {
	all := S(items)
	x, err := v.binding().onList(op, &all)
	return keydef.Value[S](x), err
}

// onList applies op with each of items, a list, as its operand, in one commit.
func (b *binding) onList(op value.Op, items any) (now any, err error) {
	d := b.listOf(op.Verb)
	given, err := d.enc(items)
	if err != nil {
		return b.after(nil, b.refuse(op.Verb.String(), fmt.Errorf("%w: %w", ErrInvalid, err)))
	}
	op.Keep = d.keep
	ops := make([]value.Op, given.Len())
	for i := range ops {
		ops[i] = op
		ops[i].Operand = given.Item(i)
	}
	return b.operate(ops...)
}

// Take removes the item at a position from the list and returns it: 0 is the first item, -1 the
// last. If the list has no such item, found is false and nothing changes. An absent entry starts
// from the key's default. Errors are those of Update.
func Take[S ~[]E, E any](v Var[S], at int) (item E, found bool, err error) {
	taken, err := v.binding().take(at)
	if list := keydef.Value[S](taken); len(list) > 0 {
		return list[0], true, nil
	}
	return item, false, err
}

// take removes an item of the list and returns a list of it alone, or nil if there is no such item.
func (b *binding) take(at int) (list any, err error) {
	d := b.listOf(value.Take)
	op := value.Op{Verb: value.Take, At: at}
	err = b.write(op.Verb.String(), func(old *reading) (value.Value, error) {
		list = nil // of the last run
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
		list, err = d.dec(value.List(taken))
		return next, err
	})
	if err != nil {
		list = nil
	}
	return list, err
}

func (b *binding) listOf(verb value.Verb) *definition {
	if b.d.kind != value.KindList {
		misuse("%s of %s needs a List key, not %s", verb, b.d.name, b.d.kind)
	}
	return b.d
}

// Each iterates over the list without copying it. The items belong to the store and must not be
// changed. Each sees the list as it is when the loop starts. The body can write.
func Each[S ~[]E, E any](v Var[S]) iter.Seq2[int, E] {
	return func(yield func(int, E) bool) {
		for i, item := range *v.binding().read().x.(*S) {
			if !yield(i, item) {
				return
			}
		}
	}
}

// operate applies operations in order to the stored value or the default. It returns the value that
// is stored then, or the present value if they are refused.
func (b *binding) operate(ops ...value.Op) (now any, err error) {
	if len(ops) == 0 {
		return b.d.Copy(b.read().x), nil
	}
	verb := ops[0].Verb.String()
	if b.in != nil {
		o := operation{b: b, ops: ops}
		err = b.writeInBatch(verb, o.operated)
		now = o.now
	} else {
		o := &operation{b: b, ops: ops}
		o.judge(b.node.Record())
		now, err = o.commit(verb)
	}
	return b.after(now, err)
}

// after returns the value that an operation stored, or the present value if it failed.
func (b *binding) after(now any, err error) (any, error) {
	if err != nil {
		return b.d.Copy(b.read().x), err
	}
	return now, nil
}

// errAsItIs means that the stored value stays unchanged.
var errAsItIs = errors.New("unchanged")

// write commits a change that is neither a plain Set nor an operation. f receives the stored value.
// It returns the value to store, the zero Value to remove the entry, or errAsItIs. f must have no
// side effects except for the results of its last run.
func (b *binding) write(op string, f func(old *reading) (value.Value, error)) error {
	if b.in != nil {
		return b.writeInBatch(op, f)
	}
	o := &operation{b: b, f: f}
	o.judge(b.node.Record())
	_, err := o.commit(op)
	return err
}

func (b *binding) writeInBatch(op string, f func(old *reading) (value.Value, error)) error {
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
// it queues. It computes it again, quickly, only if another commit came first.
type operation struct {
	b *binding

	// Exactly one of these is set. ops are applied in order to the stored value. f receives it and
	// returns the value, or the zero Value to remove the entry. With always, enc is stored. They
	// can be evaluated several times.
	ops    []value.Op
	f      func(old *reading) (value.Value, error)
	always bool

	rec  *ledger.Record // the record that the following was computed from
	old  reading
	enc  ledger.Encoded
	drop bool
	err  error
	now  any // the result of ops
}

// operated returns the result of the ops on the stored value.
func (o *operation) operated(old *reading) (value.Value, error) {
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
	o.now, err = d.Decode(now)
	return now, err
}

// judge computes the change for a record.
func (o *operation) judge(rec *ledger.Record) {
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
func (o *operation) Judge(tx *ledger.Tx) error {
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

// commit makes the operation and returns its result.
func (o *operation) commit(verb string) (now any, err error) {
	b := o.b
	b.node.MarkWritten()
	if err := b.ns.mayWrite(); err != nil {
		return now, b.fail(verb, err)
	}
	_, err = b.ns.l.CommitWithin(b.ns.within, b.ns.author, o)
	return o.now, b.fail(verb, err)
}
