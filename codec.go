package pantry

import (
	"fmt"
	"reflect"

	"github.com/small-pantry/pantry/value"
)

// A codec converts values of one Go type T to stored values and back. Each x is a *T.
type codec struct {
	enc   func(x any) (value.Value, error)
	dec   func(v value.Value) (x any, err error)
	clone func(x any) any // nil if T holds no references
	// merge returns now with the members of old that T does not know. It is nil if there can be
	// none.
	merge func(now, old value.Value) value.Value
}

// codecOf returns the codec of the type to which base points, which is any type that coderOf accepts,
// for a key of kind want. A member that is missing in a stored struct has its value in base.
func codecOf(want value.Kind, base any) codec {
	typ := reflect.TypeOf(base).Elem()
	c, from := coderOf(typ), reflect.New(typ).Elem()
	c.copy(from, reflect.ValueOf(base).Elem()) // the caller can change what base refers to
	out := codec{
		enc: func(x any) (value.Value, error) { return c.enc(reflect.ValueOf(x).Elem(), 0) },
		dec: func(v value.Value) (any, error) {
			if v.Kind() != want {
				return nil, kindError(v.Kind(), want)
			}
			x := reflect.New(typ)
			c.copy(x.Elem(), from)
			if err := c.dec(v, x.Elem()); err != nil {
				return nil, err
			}
			return x.Interface(), nil
		},
		merge: c.merge,
	}
	if c.refers {
		out.clone = func(x any) any {
			y := reflect.New(typ)
			c.copy(y.Elem(), reflect.ValueOf(x).Elem())
			return y.Interface()
		}
	}
	return out
}

// Copy returns a copy of x that shares no memory with it, or x itself if T refers to none.
func (c *codec) Copy(x any) any {
	if c.clone == nil {
		return x
	}
	return c.clone(x)
}

// kindMismatch is an ErrWrongKind that knows the kinds.
type kindMismatch struct{ got, want value.Kind }

func (e *kindMismatch) Error() string {
	return fmt.Sprintf("%v: the entry is %s, and the key is %s", ErrWrongKind, e.got, e.want)
}

func (e *kindMismatch) Unwrap() error { return ErrWrongKind }

func kindError(got, want value.Kind) error { return &kindMismatch{got, want} }
