package value

import (
	"fmt"
	"math"
)

// Add gives a + b. Two ints give an int; a float and a number give a float;
// a float is added to an int only when it is exactly an int. Passing 64 bits,
// or a result that is not finite, is ErrOutOfRange; anything but numbers is
// ErrWrongKind.
func Add(a, b Value) (Value, error) {
	if !a.kind.Number() || !b.kind.Number() {
		return Value{}, wrongOperand("add", a, b)
	}
	b, err := Convert(b, a.kind)
	if err != nil {
		return Value{}, err
	}
	if a.kind == KindInt {
		x, y := int64(a.bits), int64(b.bits)
		sum := x + y
		if (sum > x) != (y > 0) && y != 0 {
			return Value{}, fmt.Errorf("%w: %d + %d does not fit in 64 bits", ErrOutOfRange, x, y)
		}
		return Int(sum), nil
	}
	sum := Float(a.float() + b.float())
	return sum, finite(sum)
}

// Raise gives the larger of a and to, in the kind of a.
func Raise(a, to Value) (Value, error) { return keep("raise", a, to, 1) }

// Lower gives the smaller of a and to, in the kind of a.
func Lower(a, to Value) (Value, error) { return keep("lower", a, to, -1) }

func keep(op string, a, to Value, want int) (Value, error) {
	if !a.kind.Number() || !to.kind.Number() {
		return Value{}, wrongOperand(op, a, to)
	}
	to, err := Convert(to, a.kind)
	if err != nil {
		return Value{}, err
	}
	if err := finite(to); err != nil {
		return Value{}, err
	}
	order, ok := Compare(to, a)
	if !ok {
		return Value{}, fmt.Errorf("%w: NaN is neither larger nor smaller", ErrOutOfRange)
	}
	if order == want {
		return to, nil
	}
	return a, nil
}

func finite(v Value) error {
	if f, ok := v.AsFloat(); ok && (f != f || math.IsInf(f, 0)) {
		return fmt.Errorf("%w: the result %s is not finite", ErrOutOfRange, floatWord(f))
	}
	return nil
}

func wrongOperand(op string, a, b Value) error {
	got := a.kind
	if got.Number() {
		got = b.kind
	}
	return fmt.Errorf("%w: %s takes numbers, not %s", ErrWrongKind, op, got)
}

// Within refuses a value under min or over max, where these are values.
func Within(v, min, max Value) error {
	if !min.IsZero() {
		if order, ok := Compare(v, min); !ok || order < 0 {
			return fmt.Errorf("%w: %s is under %s", ErrOutOfRange, v, min)
		}
	}
	if !max.IsZero() {
		if order, ok := Compare(v, max); !ok || order > 0 {
			return fmt.Errorf("%w: %s is over %s", ErrOutOfRange, v, max)
		}
	}
	return nil
}

// Append gives the list with items at its end. With unique, an item that is
// there already is left out. With keep over 0, only the newest keep items
// stay: the oldest leave at the front.
func Append(list Value, keep int, unique bool, items ...Value) (Value, error) {
	if list.kind != KindList {
		return Value{}, fmt.Errorf("%w: append takes a list, not %s", ErrWrongKind, list.kind)
	}
	out := list.Items()
	for _, item := range items {
		if !unique || !contains(out, item) {
			out = append(out, item)
		}
	}
	if keep > 0 && len(out) > keep {
		out = out[len(out)-keep:]
	}
	return listOf(out), nil
}

// Remove gives the list without each item that equals one of items.
func Remove(list Value, items ...Value) (Value, error) {
	if list.kind != KindList {
		return Value{}, fmt.Errorf("%w: remove takes a list, not %s", ErrWrongKind, list.kind)
	}
	out := make([]Value, 0, list.Len())
	for _, x := range list.items() {
		if !contains(items, x) {
			out = append(out, x)
		}
	}
	return listOf(out), nil
}

func contains(items []Value, x Value) bool {
	for _, item := range items {
		if Equal(item, x) {
			return true
		}
	}
	return false
}
