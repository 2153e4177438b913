package value

import (
	"fmt"
	"math"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
)

// Convert returns v as kind k if that loses nothing: v itself, an int as a float that equals it
// exactly, or a float without a fraction as an int. Text is never converted to a number. The error
// wraps ErrWrongKind.
func Convert(v Value, k Kind) (Value, error) {
	if v.kind == k {
		return v, nil
	}
	if v.kind == KindInt && k == KindFloat {
		f := Float(float64(int64(v.bits)))
		if order, ok := Compare(v, f); ok && order == 0 {
			return f, nil
		}
		return Value{}, fmt.Errorf("%w: %s is not exact as a float", ErrWrongKind, v)
	}
	if v.kind == KindFloat && k == KindInt {
		f := v.float()
		if f == math.Trunc(f) && f >= -1<<63 && f < 1<<63 {
			return Int(int64(f)), nil
		}
		return Value{}, fmt.Errorf("%w: %s is not exact as an int", ErrWrongKind, v)
	}
	return Value{}, fmt.Errorf("%w: %s instead of %s", ErrWrongKind, v.kind, k)
}

// FromTyped reads what a person typed as a value of kind k: true or false; a number in JSON's
// grammar; text unchanged; bytes in base64; a time in RFC 3339; a list or a map in JSON. Errors
// wrap ErrInvalid.
func FromTyped(k Kind, typed string) (Value, error) {
	switch k {
	case KindText:
		v := Text(typed)
		return v, v.Check()
	case KindBytes, KindTime, KindSealed:
		return fromString(k, typed)
	case KindFloat:
		if f, ok := wordFloat(typed); ok {
			return Float(f), nil
		}
	}
	v, err := ParseAny([]byte(typed))
	if err == nil {
		v, err = Convert(v, k)
	}
	if err != nil {
		return Value{}, refuse.As(ErrInvalid, "%s can't be read as %s: %s", scan.Quote(typed), k, wants(k))
	}
	return v, nil
}

func wants(k Kind) string {
	switch k {
	case KindBool:
		return "write true or false"
	case KindInt:
		return "write a whole number such as 42, within 64 bits"
	case KindFloat:
		return "write a number such as 4.5"
	case KindList:
		return `write JSON such as ["C4","B2"]`
	case KindMap:
		return `write JSON such as {"bed":"C4"}`
	}
	return "no value of this kind can be typed"
}

// Infer reads what a person typed without a kind. true and false are bool. A number in JSON's
// grammar is an int, or a float if it has a point or an exponent. Text that begins with [ or { is a
// list or a map. All else is text. A number of over 64 bits, and a list or map that is not JSON, is
// refused with an error that wraps ErrInvalid.
func Infer(typed string) (Value, error) {
	switch {
	case typed == "true" || typed == "false":
		return Bool(typed == "true"), nil
	case typed != "" && (typed[0] == '[' || typed[0] == '{'), isNumber(typed):
		v, err := ParseAny([]byte(typed))
		if err != nil {
			return Value{}, fmt.Errorf("%s can't be read: %w; use kind text to keep it as text", scan.Quote(typed), err)
		}
		return v, nil
	}
	v := Text(typed)
	return v, v.Check()
}

// isNumber reports whether s as a whole is a number in JSON's grammar.
func isNumber(s string) bool {
	if s == "" || s[0] != '-' && (s[0] < '0' || s[0] > '9') {
		return false
	}
	r := scan.New([]byte(s))
	lit, _, err := r.Number()
	return err == nil && len(lit) == len(s)
}
