package ledger

import (
	"errors"
	"fmt"

	"github.com/small-pantry/pantry/value"
)

// ErrTooLarge is returned for a value whose JSON form is over MaxValue.
var ErrTooLarge = errors.New("too large")

// Encoded is a value that is fit to be stored, with its JSON form, made
// before the commit queues. Of what is short that is made with the line.
type Encoded struct {
	val  value.Value
	json []byte
}

// Encode checks a value and makes its JSON form. Errors wrap value.ErrInvalid
// or ErrTooLarge.
func Encode(v value.Value) (Encoded, error) {
	e := Encoded{val: v}
	switch v.Kind() {
	case value.KindBool, value.KindInt, value.KindFloat:
		return e, nil // which are fit whatever they are
	}
	if err := v.Check(); err != nil {
		return Encoded{}, err
	}
	if v.Kind() == value.KindTime {
		return e, nil
	}
	e.json = v.AppendJSON(nil)
	if len(e.json) > MaxValue {
		return Encoded{}, fmt.Errorf("%w: the value takes %d bytes, and %d is the most: keep it in a file, and its name here", ErrTooLarge, len(e.json), MaxValue)
	}
	return e, nil
}

// Value is the value; no value in the zero Encoded.
func (e Encoded) Value() value.Value { return e.val }

// shortJSON is what the JSON form of a number or a time never exceeds.
const shortJSON = 64

// Size is the length of the JSON form.
func (e Encoded) Size() int {
	if e.json != nil {
		return len(e.json)
	}
	var short [shortJSON]byte
	return len(e.val.AppendJSON(short[:0]))
}

// Exceeds says whether the JSON form is longer than most.
func (e Encoded) Exceeds(most int) bool {
	if e.json == nil && most >= shortJSON {
		return false
	}
	return e.Size() > most
}
