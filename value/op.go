package value

import (
	"fmt"
	"math"
	"slices"

	"github.com/small-pantry/pantry/internal/refuse"
)

// A Verb is the operation of an Op.
type Verb uint8

// The verbs. The zero Verb is invalid.
const (
	Put    Verb = 1 + iota // stores a value in place of the present one
	Drop                   // removes the entry
	Add                    // adds to a number
	Raise                  // sets a number to Operand if it is smaller
	Lower                  // sets a number to Operand if it is larger
	Append                 // adds an item at the end of a list
	Remove                 // removes the first equal item of a list, or all equal items
	Take                   // removes an item of a list by its position
)

var verbNames = [...]string{"none", "put", "drop", "add", "raise", "lower", "append", "remove", "take"}

// String returns the verb's name on the wire.
func (v Verb) String() string {
	if int(v) < len(verbNames) {
		return verbNames[v]
	}
	return fmt.Sprintf("verb(%d)", uint8(v))
}

// A Form says how a Put carries its operand.
type Form uint8

// The forms.
const (
	Known    Form = iota // Operand is the value
	FromJSON             // Raw is JSON, which does not distinguish all kinds
	AsTyped              // Raw is what a person typed
)

// An Op is a change of a value, as data. It is stored, sent, authorised and hashed. It has neither
// a name nor a condition. Verb decides which members count; the others are ignored.
type Op struct {
	Verb Verb
	// Operand is the value of a Put, the amount of an Add, the bound of a Raise or a Lower, or the
	// item of an Append or a Remove.
	Operand Value
	Form    Form   // Put: how the operand is given
	Raw     string // Put: the operand, if its kind is not known yet
	Kind    Kind   // Put: the new kind of the entry; KindNone keeps its kind
	// Start is the value from which an absent entry starts. The zero Value means 0, an empty list,
	// or for Raise and Lower the operand.
	Start    Value
	Min, Max Value // bounds of the result; the zero Value means none
	Keep     int   // how many of the newest items of a list stay; 0 means all
	Unique   bool  // Append: not if the list has an equal item
	All      bool  // Remove: every equal item, not only the first
	At       int   // Take: the position, from 0; -1 is the last
}

// Apply returns the result of op on now. The zero Value is an absent entry, both as now and as the
// result of a Drop. taken is the item that a Take removed. Apply is a pure function of op and now.
//
// The errors are ErrWrongKind if op does not fit the kind of now; ErrOutOfRange if the result
// exceeds the bounds or 64 bits, or is not finite; ErrAbsent for a Take that finds no item; and
// ErrInvalid for a Put whose operand is not Known, and for the zero Verb.
func (op Op) Apply(now Value) (next, taken Value, err error) {
	if op.Verb == Drop {
		return Value{}, Value{}, nil
	}
	if op.Verb != Put && now.IsZero() {
		now = op.start()
	}
	switch op.Verb {
	case Put:
		if op.Form != Known {
			return Value{}, Value{}, refuse.As(ErrInvalid, "the kind of the operand is not known")
		}
		next = op.Operand
	case Add:
		next, err = add(now, op.Operand)
	case Raise, Lower:
		next, err = op.keepBetter(now)
	case Append, Remove, Take:
		next, taken, err = op.onList(now)
	default:
		err = refuse.As(ErrInvalid, "operation %s does not exist", op.Verb)
	}
	if err == nil && op.Verb != Take {
		err = Within(next, op.Min, op.Max)
	}
	if err != nil {
		return Value{}, Value{}, err
	}
	if n := next.Len(); op.Keep > 0 && next.kind == KindList && n > op.Keep {
		next = listOf(next.items()[n-op.Keep:])
	}
	return next, taken, nil
}

// start returns the value from which an absent entry starts.
func (op Op) start() Value {
	switch {
	case !op.Start.IsZero():
		return op.Start
	case op.Verb == Raise || op.Verb == Lower:
		return op.Operand
	case op.Verb == Add && op.Operand.kind == KindFloat:
		return Float(0)
	case op.Verb == Add:
		return Int(0)
	case op.Verb == Take:
		return Value{}
	}
	return listOf(nil)
}

func (op Op) wrongKind(takes string, a Value) error {
	return refuse.As(ErrWrongKind, "%s needs %s, not %s", op.Verb, takes, a.kind)
}

// add returns a + b. Two ints make an int. A float and a number make a float. A float is added to
// an int only if it is exactly an int.
func add(a, b Value) (Value, error) {
	b, err := numbers(Add, a, b)
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

// keepBetter returns the larger of two numbers for Raise and the smaller one for Lower, in the kind
// of now.
func (op Op) keepBetter(now Value) (Value, error) {
	to, err := numbers(op.Verb, now, op.Operand)
	if err == nil {
		err = finite(to)
	}
	if err != nil {
		return Value{}, err
	}
	order, ok := Compare(to, now)
	switch {
	case !ok:
		return Value{}, fmt.Errorf("%w: NaN is neither larger nor smaller", ErrOutOfRange)
	case order > 0 && op.Verb == Raise, order < 0 && op.Verb == Lower:
		return to, nil
	}
	return now, nil
}

// numbers returns b in the kind of a, if both are numbers.
func numbers(verb Verb, a, b Value) (Value, error) {
	for _, v := range [...]Value{a, b} {
		if !v.kind.Number() {
			return Value{}, Op{Verb: verb}.wrongKind("numbers", v)
		}
	}
	return Convert(b, a.kind)
}

func finite(v Value) error {
	if f, ok := v.AsFloat(); ok && (f != f || math.IsInf(f, 0)) {
		return fmt.Errorf("%w: the result %s is not finite", ErrOutOfRange, floatWord(f))
	}
	return nil
}

// onList returns the list after an Append, a Remove or a Take.
func (op Op) onList(list Value) (next, taken Value, err error) {
	switch {
	case list.IsZero() && op.Verb == Take:
		return Value{}, Value{}, ErrAbsent
	case list.kind != KindList:
		return Value{}, Value{}, op.wrongKind("a list", list)
	}
	items := list.items()
	equal := func(x Value) bool { return Equal(x, op.Operand) }
	switch op.Verb {
	case Append:
		if op.Unique && slices.ContainsFunc(items, equal) {
			return list, Value{}, nil
		}
		return listOf(append(slices.Clip(items), op.Operand)), Value{}, nil
	case Remove:
		if op.All {
			return listOf(slices.DeleteFunc(slices.Clone(items), equal)), Value{}, nil
		}
		i := slices.IndexFunc(items, equal)
		if i < 0 {
			return list, Value{}, nil
		}
		return without(items, i), Value{}, nil
	}
	i := op.At
	if i == -1 {
		i = len(items) - 1
	}
	if i < 0 || i >= len(items) {
		return Value{}, Value{}, refuse.As(ErrAbsent, "the list has %d items and no item at position %d", len(items), op.At)
	}
	return without(items, i), items[i], nil
}

func without(items []Value, i int) Value {
	return listOf(slices.Concat(items[:i], items[i+1:]))
}

// Within returns an error that wraps ErrOutOfRange if a value is under min or over max. The zero
// Value is no bound.
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
