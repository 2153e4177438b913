package board

import (
	"context"
	"errors"
	"fmt"
	"reflect"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/value"
)

// Append adds items at the end of the list and returns the list as it is stored now. With the key's
// Keep, the oldest items are removed. An absent entry starts from the key's default. The errors are
// those of Add.
func Append[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Append}, items)
}

// AppendUnique is Append without the items that are in the list already.
func AppendUnique[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Append, Unique: true}, items)
}

// Remove removes, for each of items, the first item of the list that equals it, and returns the
// list as it is stored now. The errors are those of Add.
func Remove[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Remove}, items)
}

// RemoveAll removes every item that equals one of items, and returns the list as it is stored now.
// The errors are those of Add.
func RemoveAll[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Remove, All: true}, items)
}

func onList[S ~[]E, E any](ctx context.Context, v Var[S], op value.Op, items []E) (S, error) {
	all := S(items)
	x, err := v.binding().onList(ctx, op, &all)
	return keydef.Value[S](x), err
}

func (x *binding) onList(ctx context.Context, op value.Op, items any) (now any, err error) {
	ops, err := x.listOps(op, items)
	if err != nil {
		return x.get(), x.refuse(op.Verb.String(), err)
	}
	return x.operate(ctx, ops...)
}

// listOps returns one op for each of items, a list.
func (x *binding) listOps(op value.Op, items any) ([]entry.Edit, error) {
	d := x.k.Declaration()
	if d.Kind != value.KindList {
		panic(fmt.Sprintf("board: %s of %s takes a List key, not %s", op.Verb, d.Name, d.Kind))
	}
	op.Start, op.Keep = d.Default, d.Keep
	list := reflect.ValueOf(items).Elem()
	ops := make([]entry.Edit, list.Len())
	one := reflect.New(list.Type())
	for i := range ops { // one by one: the rules of a list apply to all of it
		one.Elem().Set(list.Slice(i, i+1))
		given, err := x.k.EncodeUnchecked(one.Interface())
		if err != nil {
			return nil, fmt.Errorf("%w: %w", pantry.ErrInvalid, err)
		}
		ops[i] = x.op(op)
		ops[i].Op.Operand = given.Item(0)
	}
	return ops, nil
}

// Take removes the item at a position from the list on the server and returns it: 0 is the first,
// -1 the last. If two phones take at once, each gets another item. If the list has no such item, found
// is false and nothing changes. A Take can't be queued, because its result is not known yet:
// without an answer the error is ErrUnreachable, and an item may have been taken or not. Other
// errors are those of Add.
func Take[S ~[]E, E any](ctx context.Context, v Var[S], at int) (item E, found bool, err error) {
	taken, err := v.binding().take(ctx, at)
	if list := keydef.Value[S](taken); len(list) > 0 {
		return list[0], true, nil
	}
	return item, false, err
}

// take returns a list of the item that it took out, or nil if there is no such item.
func (x *binding) take(ctx context.Context, at int) (any, error) {
	done, err := x.b.writeNow(ctx, "take", []entry.Edit{x.takeOp(at)})
	if errors.Is(err, pantry.ErrAbsent) {
		x.settle()
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	list, err := x.k.DecodeUnchecked(value.List(done.Results[0].Taken))
	if err != nil {
		return nil, x.b.conn.fail("take", x.name, &Error{
			Index: -1, Code: "unreadable", Err: errors.Join(pantry.ErrWrongKind, err), Sentence: fmt.Sprintf("the item that was taken out can't be used: %v", err)})
	}
	return list, nil
}

func (x *binding) takeOp(at int) entry.Edit {
	return x.op(value.Op{Verb: value.Take, At: at, Start: x.k.Declaration().Default})
}
