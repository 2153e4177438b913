package ledger

import (
	"errors"
	"fmt"

	"github.com/small-pantry/pantry/value"
)

// ErrTooLarge is returned for a value whose JSON is larger than MaxValue.
var ErrTooLarge = errors.New("too large")

// Encoded is a checked value with its JSON, which is made before the commit queues. The JSON of
// short values is made with the line.
type Encoded struct {
	val  value.Value
	json []byte
}

// Encode checks and encodes a value. Errors wrap value.ErrInvalid or ErrTooLarge.
func Encode(v value.Value) (Encoded, error) {
	e := Encoded{val: v}
	switch v.Kind() {
	case value.KindBool, value.KindInt, value.KindFloat:
		return e, nil // always valid
	}
	if err := v.Check(); err != nil {
		return Encoded{}, err
	}
	if v.Kind() == value.KindTime {
		return e, nil
	}
	e.json = v.AppendJSON(nil)
	if len(e.json) > MaxValue {
		return Encoded{}, fmt.Errorf("%w: the value has %d bytes, and the limit is %d: keep it in a file, and store the file's name", ErrTooLarge, len(e.json), MaxValue)
	}
	return e, nil
}

// Value returns the value. The zero Encoded has none.
func (e Encoded) Value() value.Value { return e.val }

// shortJSON is the maximum length of the JSON of a number or a time.
const shortJSON = 64

// Size returns the length of the JSON.
func (e Encoded) Size() int {
	if e.json != nil {
		return len(e.json)
	}
	var short [shortJSON]byte
	return len(e.val.AppendJSON(short[:0]))
}

// Exceeds reports whether the JSON is longer than most.
func (e Encoded) Exceeds(most int) bool {
	if e.json == nil && most >= shortJSON {
		return false
	}
	return e.Size() > most
}
