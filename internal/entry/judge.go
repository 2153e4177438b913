package entry

import (
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// A DeclaredError is a refusal because of a declared key. Its cause is value.ErrWrongKind,
// value.ErrOutOfRange or value.ErrInvalid.
type DeclaredError struct{ Err error }

func (e *DeclaredError) Error() string { return e.Err.Error() }

// Unwrap returns the cause.
func (e *DeclaredError) Unwrap() error { return e.Err }

// Judge returns an error if the declaration does not allow a value. Its text follows the entry's
// name in a sentence. An empty declaration allows everything.
func (d Declared) Judge(v value.Value) error {
	if d.Kind == value.KindNone || v.IsZero() {
		return nil
	}
	as, err := value.Convert(v, d.Kind)
	switch {
	case err != nil && d.Kind == value.KindSealed:
		return d.refuse(value.ErrWrongKind, "its key is sealed, and %s %s would be in the file in the clear", v.Kind(), Quoted(v))
	case err != nil:
		return d.refuse(value.ErrWrongKind, "it is declared as %s, and %s %s is not", d.Kind, v.Kind(), Quoted(v))
	case value.Within(as, d.Min, d.Max) != nil:
		return d.refuse(value.ErrOutOfRange, "%s is out of range: it is declared from %s to %s", v, d.Min, d.Max)
	}
	if text, isText := as.AsText(); isText && len(d.Choices) > 0 && !slices.Contains(d.Choices, text) {
		return d.refuse(value.ErrInvalid, "%s is not one of %s", Quoted(v), strings.Join(d.Choices, ", "))
	}
	return nil
}

// JudgeWhole is Judge for a value that is stored unchanged: it refuses a list that is longer than
// declared. An operation would remove the oldest items.
func (d Declared) JudgeWhole(v value.Value) error {
	err := d.Judge(v)
	if err == nil && d.Keep > 0 && v.Len() > d.Keep {
		err = d.refuse(value.ErrInvalid, "a list of %d items is too long: it is declared to keep %d", v.Len(), d.Keep)
	}
	return err
}

func (d Declared) refuse(is error, format string, args ...any) error {
	return &DeclaredError{refuse.As(is, format, args...)}
}

// Allowed describes the rules of the declaration besides the kind; empty means none.
func (d Declared) Allowed() string {
	switch {
	case len(d.Choices) > 0:
		return strings.Join(d.Choices, ", ")
	case !d.Min.IsZero():
		return d.Min.String() + " to " + d.Max.String()
	case d.Keep > 0:
		return "the newest " + value.Int(int64(d.Keep)).String()
	}
	return ""
}
