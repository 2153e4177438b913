package rules

import (
	"errors"
	"math"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// resolve fills in what an operation leaves open: the kind of a put's operand, from the declared or
// else the stored kind; and the start, the bounds and the length from the declaration. After that,
// Apply needs nothing else.
func resolve(op value.Op, name string, declared entry.Declared, now value.Value) (value.Op, error) {
	if op.Start.IsZero() && declared.Kind == declared.Default.Kind() {
		op.Start = declared.Default
	}
	if op.Keep == 0 || declared.Keep > 0 && declared.Keep < op.Keep {
		op.Keep = declared.Keep
	}
	op.Min, op.Max = tighter(op.Min, declared.Min, 1), tighter(op.Max, declared.Max, -1)
	if op.Verb != value.Put {
		return op, nil
	}
	have := declared.Kind
	if have == value.KindNone {
		have = now.Kind()
	} else if op.Kind != value.KindNone && op.Kind != have {
		return op, &entry.DeclaredError{Err: refuse.As(value.ErrWrongKind, "%s is declared as %s, and can't be stored as %s", name, have, op.Kind)}
	}
	if have == value.KindSealed && op.Kind == value.KindNone && (op.Form != value.Known || op.Operand.Kind() != value.KindSealed) {
		return op, &entry.DeclaredError{Err: refuse.As(value.ErrWrongKind, "%s is sealed: only its app, which has the key, can write it", name)}
	}
	v, err := operand(op, have)
	if err != nil {
		return op, refusePut(op, name, have, declared.Kind != value.KindNone, err)
	}
	if v.Kind() == value.KindNull {
		return op, refuse.As(value.ErrInvalid, "null is not a value; remove %s instead", name)
	}
	op.Operand, op.Form, op.Raw = v, value.Known, ""
	return op, v.Check()
}

// resolve is resolve. With widen it also turns an undeclared int into a float for a number with a
// fraction.
func (j *judgement) resolve(op value.Op, name string, declared entry.Declared, now value.Value) (value.Op, error) {
	out, err := resolve(op, name, declared, now)
	if !errors.Is(err, value.ErrWrongKind) || !j.c.Widen || op.Verb != value.Put || op.Kind != value.KindNone || declared.Kind != value.KindNone || now.Kind() != value.KindInt {
		return out, err
	}
	op.Kind = value.KindFloat
	if wide, bad := resolve(op, name, declared, now); bad == nil {
		if f, _ := wide.Operand.AsFloat(); f != math.Trunc(f) {
			return wide, nil
		}
	}
	return out, err
}

// Read returns the value of a put under a name, in the declared kind, else the stored kind, else
// the kind of its form. Errors are those of Commit.
func Read(put value.Op, name string, declared entry.Declared, now value.Value) (value.Value, error) {
	op, err := resolve(put, name, declared, now)
	return op.Operand, err
}

// tighter returns the stricter bound: the larger of two with 1, the smaller with -1.
func tighter(a, b value.Value, want int) value.Value {
	if order, ok := value.Compare(a, b); a.IsZero() || !b.IsZero() && ok && order == -want {
		return b
	}
	return a
}

// operand reads a put's operand in the kind of the entry: the kind in the put, else have, else the
// kind of its form.
func operand(op value.Op, have value.Kind) (v value.Value, err error) {
	want := op.Kind
	if want == value.KindNone {
		want = have
	}
	switch {
	case op.Form == value.AsTyped && want == value.KindNone:
		return value.Infer(op.Raw)
	case op.Form == value.AsTyped:
		return value.FromTyped(want, op.Raw)
	case op.Form == value.FromJSON:
		v, err = value.ParseAny([]byte(op.Raw))
		// A text in JSON can be a time or bytes. It is never a number.
		if err == nil && v.Kind() == value.KindText && want != value.KindNone && (op.Kind != value.KindNone || !want.Number()) {
			return value.Parse(want, []byte(op.Raw))
		}
	default:
		v = op.Operand
	}
	if err == nil && want != value.KindNone {
		v, err = value.Convert(v, want)
	}
	return v, err
}

// refusePut returns a refusal that names the ways out.
func refusePut(op value.Op, name string, have value.Kind, declared bool, err error) error {
	switch {
	case isNull(op):
		return refuse.As(value.ErrWrongKind, "%s holds values of kind %s, and null is not a value; remove %s instead", name, have, name)
	case declared && op.Kind == value.KindNone && op.Form == value.AsTyped:
		return &entry.DeclaredError{Err: refuse.As(value.ErrWrongKind, "%s is declared as %s: %v", name, have, err)}
	case declared && op.Kind == value.KindNone:
		return &entry.DeclaredError{Err: refuse.As(value.ErrWrongKind, "%s is declared as %s, and %s can't be stored in it", name, have, given(op))}
	case op.Kind != value.KindNone:
		return refuse.As(value.ErrInvalid, "%s: %v", name, err)
	case errors.Is(err, value.ErrWrongKind) || op.Form != value.FromJSON && have != value.KindNone:
		return refuse.As(value.ErrWrongKind,
			"%s is of kind %s, and %s is not: store a value of kind %[2]s, or name another kind to change the entry",
			name, have, given(op))
	}
	return err
}

func isNull(op value.Op) bool {
	v := op.Operand
	if op.Form == value.FromJSON {
		v, _ = value.ParseAny([]byte(op.Raw)) // a text that is not JSON is not null either
	}
	return v.Kind() == value.KindNull
}

// given describes the operand for a message.
func given(op value.Op) string {
	v := op.Operand
	switch op.Form {
	case value.AsTyped:
		return scan.Quote(op.Raw)
	case value.FromJSON:
		var err error
		if v, err = value.ParseAny([]byte(op.Raw)); err != nil {
			return scan.Quote(op.Raw)
		}
	}
	if v.Kind() == value.KindBytes {
		return "bytes"
	}
	return v.Kind().String() + " " + entry.Quoted(v)
}
