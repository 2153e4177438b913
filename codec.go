package pantry

import (
	"fmt"
	"reflect"

	"github.com/small-pantry/pantry/value"
)

// A codec converts values of one Go type to stored values and back.
type codec[T any] struct {
	enc   func(T) (value.Value, error)
	dec   func(value.Value) (T, error)
	clone func(T) T // nil if T holds no references
	// merge returns now with the members of old that T does not know. It is nil if there can be
	// none.
	merge func(now, old value.Value) value.Value
}

// codecOf returns the codec of any type that coderOf accepts, for a key of kind want. A member that
// is missing in a stored struct has its value in base.
func codecOf[T any](want value.Kind, base T) codec[T] {
	typ := reflect.TypeFor[T]()
	c := coderOf(typ)
	out := codec[T]{
		enc: func(x T) (value.Value, error) { return c.enc(reflect.ValueOf(&x).Elem(), 0) },
		dec: func(v value.Value) (T, error) {
			x := base
			if c.refers {
				c.copy(reflect.ValueOf(&x).Elem(), reflect.ValueOf(&base).Elem())
			}
			if v.Kind() != want {
				return x, kindError(v.Kind(), want)
			}
			err := c.dec(v, reflect.ValueOf(&x).Elem())
			return x, err
		},
		merge: c.merge,
	}
	if c.refers {
		out.clone = func(x T) T {
			var y T
			c.copy(reflect.ValueOf(&y).Elem(), reflect.ValueOf(&x).Elem())
			return y
		}
	}
	return out
}

// kindMismatch is an ErrWrongKind that knows the kinds.
type kindMismatch struct{ got, want value.Kind }

func (e *kindMismatch) Error() string {
	return fmt.Sprintf("%v: the entry is %s, and the key is %s", ErrWrongKind, e.got, e.want)
}

func (e *kindMismatch) Unwrap() error { return ErrWrongKind }

func kindError(got, want value.Kind) error { return &kindMismatch{got, want} }
