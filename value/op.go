package value

import (
	"fmt"
	"math"
	"slices"

	"github.com/small-pantry/pantry/internal/refuse"
)

// A Verb says what an Op does to a value.
type Verb uint8

// The verbs. The zero Verb is none.
const (
	Put    Verb = 1 + iota // stores a value in place of what is there
	Drop                   // removes what is there
	Add                    // adds to a number
	Raise                  // makes a number Operand where it is smaller
	Lower                  // makes a number Operand where it is larger
	Append                 // adds an item at the end of a list
	Remove                 // takes the first item that equals one out of a list, or all
	Take                   // takes an item out of a list by its position
)

var verbNames = [...]string{"none", "put", "drop", "add", "raise", "lower", "append", "remove", "take"}

// String gives the verb as the wire spells it.
func (v Verb) String() string {
	if int(v) < len(verbNames) {
		return verbNames[v]
	}
	return fmt.Sprintf("verb(%d)", uint8(v))
}

// A Form says how the operand of a Put is given.
type Form uint8

// The forms.
const (
	Known    Form = iota // Operand is the value
	FromJSON             // Raw is JSON, which doesn't tell all kinds apart
	AsTyped              // Raw is what a person typed
)

// An Op is a change of one value, as data: what is stored and sent, asked
// about and counted. It says neither which entry it is about nor on what
// condition. Which members count depends on the Verb; the others are ignored.
type Op struct {
	Verb Verb
	// Operand is the value of a Put, the amount of an Add, the bound of a Raise
	// or a Lower, and the item of an Append or a Remove.
	Operand Value
	Form    Form   // Put: where the operand stands
	Raw     string // Put: the operand, whose kind is not known yet
	Kind    Kind   // Put: the kind that the entry is to have; KindNone: its own
	// Start is what an absent entry starts from; no value: 0, an empty list, and
	// for Raise and Lower the operand.
	Start    Value
	Min, Max Value // bounds of the result; no value: none
	Keep     int   // the newest items of a list that stay; 0: all
	Unique   bool  // Append: not where the item is there already
	All      bool  // Remove: every equal item, not the first alone
	At       int   // Take: the position, from 0; -1 is the last
}

// Apply gives what op makes of a value; of an absent entry, that is no value,
// and so is the result of a Drop. taken is the item that a Take has taken out.
// Apply depends on nothing but op and now, and has no side effects.
//
// The errors are ErrWrongKind where op does not fit the kind of now;
// ErrOutOfRange where the result passes the bounds or 64 bits, or is not
// finite; ErrAbsent for a Take that finds no item; and ErrInvalid for a Put whose
// operand is not Known, and for no Verb.
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
			return Value{}, Value{}, refuse.As(ErrInvalid, "the kind of what is to be put is not known")
		}
		next = op.Operand
	case Add:
		next, err = add(now, op.Operand)
	case Raise, Lower:
		next, err = op.keepBetter(now)
	case Append, Remove, Take:
		next, taken, err = op.onList(now)
	default:
		err = refuse.As(ErrInvalid, "there is no operation %s", op.Verb)
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

// start gives what an absent entry starts from.
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
	return refuse.As(ErrWrongKind, "%s takes %s, not %s", op.Verb, takes, a.kind)
}

// add gives a + b. Two ints give an int; a float and a number give a float; a
// float is added to an int only when it is exactly an int.
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

// keepBetter gives the larger of two numbers for Raise, the smaller for Lower,
// in the kind of what is there.
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

// numbers gives b in the kind of a, where both are numbers.
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

// onList gives the list after an Append, a Remove or a Take.
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
		return Value{}, Value{}, refuse.As(ErrAbsent, "the list has %d items, and none at %d", len(items), op.At)
	}
	return without(items, i), items[i], nil
}

func without(items []Value, i int) Value {
	return listOf(slices.Concat(items[:i], items[i+1:]))
}

// Within refuses a value under min or over max, where these are values. The
// error wraps ErrOutOfRange.
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
