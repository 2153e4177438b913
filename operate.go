package pantry

import (
	"fmt"
	"iter"

	"github.com/small-pantry/pantry/value"
)

// Add adds n to the variable and gives what is stored now. Adding is one step:
// two phones or two goroutines that add at once are both counted. An absent
// entry starts from the key's default. A result outside the key's Between, or
// outside T's range, is ErrInvalid and changes nothing; an entry of another
// kind is ErrWrongKind. Other errors are those of Set.
func Add[T Number](v Var[T], n T) (T, error) {
	return operate(v, "add", n, value.Add)
}

// Raise makes the variable n where it is smaller. Errors are those of Add.
func Raise[T Number](v Var[T], n T) (T, error) {
	return operate(v, "raise", n, value.Raise)
}

// Lower makes the variable n where it is larger. Errors are those of Add.
func Lower[T Number](v Var[T], n T) (T, error) {
	return operate(v, "lower", n, value.Lower)
}

func operate[T Number](v Var[T], op string, n T, f func(a, b value.Value) (value.Value, error)) (now T, err error) {
	d := v.binding().d
	operand, err := d.enc(n)
	if err != nil {
		return now, v.refuse(op, err)
	}
	return v.fold(op, operand, f)
}

// after gives what an operation stored or, when it failed, what is there.
func (v Var[T]) after(now T, err error) (T, error) {
	if err != nil {
		return v.b.d.copied(v.read().x), err
	}
	return now, nil
}

// Append adds items at the end of the list and gives the list as it is stored
// now. With the key's Keep, the oldest leave at the front. An absent entry
// starts from the key's default. Errors are those of Update.
func Append[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, "append", items, func(list value.Value, keep int, items []value.Value) (value.Value, error) {
		return value.Append(list, keep, false, items...)
	})
}

// AppendUnique is Append that leaves out an item which is in the list already.
func AppendUnique[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, "append", items, func(list value.Value, keep int, items []value.Value) (value.Value, error) {
		return value.Append(list, keep, true, items...)
	})
}

// Remove takes every item that equals one of items out of the list and gives
// the list as it is stored now. Errors are those of Update.
func Remove[S ~[]E, E any](v Var[S], items ...E) (S, error) {
	return onList(v, "remove", items, func(list value.Value, _ int, items []value.Value) (value.Value, error) {
		return value.Remove(list, items...)
	})
}

func onList[S ~[]E, E any](v Var[S], op string, items []E, f func(list value.Value, keep int, items []value.Value) (value.Value, error)) (now S, err error) {
	d := v.binding().d
	if d.kind != value.KindList {
		misuse("%s of %s takes a List key, not %s", op, d.name, d.kind)
	}
	given, err := d.enc(S(items))
	if err != nil {
		return now, v.refuse(op, fmt.Errorf("%w: %w", ErrInvalid, err))
	}
	err = v.write(op, func(old *reading[S]) (value.Value, error) {
		if old.err != nil {
			return value.Value{}, old.err
		}
		list := old.val
		if !old.found {
			var err error
			if list, err = d.enc(old.x); err != nil {
				return value.Value{}, err
			}
		}
		val, err := f(list, d.keep, given.Items())
		if err != nil {
			return value.Value{}, err
		}
		now, err = d.decode(val)
		return val, err
	})
	return v.after(now, err)
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
