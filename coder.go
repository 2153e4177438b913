package pantry

import (
	"encoding"
	"fmt"
	"math"
	"reflect"
	"sync"
	"time"

	"github.com/small-pantry/pantry/value"

	"github.com/small-pantry/pantry/internal/refuse"
)

// A coder is a codec for a type that is known only at run time. Lists and maps have no bytes and
// times inside: a []byte is base64 there, and a time.Time is RFC 3339.
type coder struct {
	// enc encodes at a nesting depth.
	enc    func(x reflect.Value, deep int) (value.Value, error)
	dec    func(value.Value, reflect.Value) error
	copy   func(dst, src reflect.Value)
	merge  func(now, old value.Value) value.Value // of a struct, else nil
	refers bool                                   // values of the type share memory when assigned
	unkept string                                 // what does not survive a round trip, for Declare; empty if all does
}

var coders sync.Map // reflect.Type → *coder

var (
	typeTime      = reflect.TypeFor[time.Time]()
	typeValue     = reflect.TypeFor[value.Value]()
	typeMarshal   = reflect.TypeFor[encoding.TextMarshaler]()
	typeUnmarshal = reflect.TypeFor[encoding.TextUnmarshaler]()
)

func coderOf(t reflect.Type) *coder {
	if c, ok := coders.Load(t); ok {
		return c.(*coder)
	}
	return build(t, map[reflect.Type]*coder{})
}

// build makes the coder of t. A recursive type finds its own coder in building.
func build(t reflect.Type, building map[reflect.Type]*coder) *coder {
	if c, ok := coders.Load(t); ok {
		return c.(*coder)
	}
	if c := building[t]; c != nil {
		c.refers = true // only through a pointer, slice or map
		return c
	}
	c := &coder{copy: func(dst, src reflect.Value) { dst.Set(src) }}
	building[t] = c
	c.fill(t, building)
	coders.Store(t, c)
	return c
}

func (c *coder) fill(t reflect.Type, building map[reflect.Type]*coder) {
	switch {
	case t == typeTime:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) {
			v := value.Time(x.Interface().(time.Time))
			return value.Text(v.String()), v.Check()
		}
		c.dec = func(v value.Value, x reflect.Value) error {
			s, _ := v.AsText()
			v, err := value.FromTyped(value.KindTime, s)
			if err == nil {
				t, _ := v.AsTime()
				x.Set(reflect.ValueOf(t))
			}
			return err
		}
	case t == typeValue:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) { return x.Interface().(value.Value), nil }
		c.dec = func(v value.Value, x reflect.Value) error { x.Set(reflect.ValueOf(v)); return nil }
	case t.Implements(typeMarshal) && reflect.PointerTo(t).Implements(typeUnmarshal):
		if from := promoted(t); from != "" {
			misuse("the struct %s would be stored only as the text of its embedded %s, whose MarshalText it has; give the field a name, or write a MarshalText method", t, from)
		}
		c.textual(t)
	case !c.simple(t.Kind()):
		c.composite(t, building)
	}
}

// composite fills in how values of types with parts are stored.
func (c *coder) composite(t reflect.Type, building map[reflect.Type]*coder) {
	switch t.Kind() {
	case reflect.Slice, reflect.Array:
		c.sequence(t, building)
	case reflect.Map:
		c.mapping(t, building)
	case reflect.Pointer:
		c.pointer(t, building)
	case reflect.Struct:
		c.structure(t, building)
	case reflect.Interface:
		c.dynamic(t)
	default:
		misuse("a value of type %s can't be stored; use bool, numbers, string, []byte, time.Time, slices, maps with string keys, structs, or a type with MarshalText", t)
	}
}

// simple fills in how values of a kind without parts are stored. It returns false for other kinds.
func (c *coder) simple(k reflect.Kind) bool {
	switch k {
	case reflect.Bool:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) { return value.Bool(x.Bool()), nil }
		c.dec = func(v value.Value, x reflect.Value) error {
			b, ok := v.AsBool()
			x.SetBool(b)
			return want(ok, v, value.KindBool)
		}
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) { return value.Int(x.Int()), nil }
		c.dec = func(v value.Value, x reflect.Value) error {
			n, ok := v.AsInt()
			if x.OverflowInt(n) {
				return rangeError(v, x.Type())
			}
			x.SetInt(n)
			return want(ok, v, value.KindInt)
		}
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) {
			if x.Uint() > math.MaxInt64 {
				return value.Value{}, refuse.As(ErrInvalid, "%d does not fit in an int of 64 bits", x.Uint())
			}
			return value.Int(int64(x.Uint())), nil
		}
		c.dec = func(v value.Value, x reflect.Value) error {
			n, ok := v.AsInt()
			if n < 0 || x.OverflowUint(uint64(n)) {
				return rangeError(v, x.Type())
			}
			x.SetUint(uint64(n))
			return want(ok, v, value.KindInt)
		}
	case reflect.Float32, reflect.Float64:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) { return value.Float(x.Float()), nil }
		c.dec = func(v value.Value, x reflect.Value) error {
			v, err := value.Convert(v, value.KindFloat)
			if err != nil {
				return err
			}
			f, _ := v.AsFloat()
			if x.OverflowFloat(f) {
				return rangeError(v, x.Type())
			}
			x.SetFloat(f)
			return nil
		}
	case reflect.String:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) { return value.Text(x.String()), nil }
		c.dec = func(v value.Value, x reflect.Value) error {
			s, ok := v.AsText()
			x.SetString(s)
			return want(ok, v, value.KindText)
		}
	default:
		return false
	}
	return true
}

// deepest is the maximum nesting depth of Go values: that of lists and maps, with a pointer and an
// interface at each step. A cyclic value is deeper.
const deepest = 3 * value.MaxDepth

func tooDeep(deep int) error {
	if deep <= deepest {
		return nil
	}
	return refuse.As(ErrInvalid, "it is nested more than %d levels deep: does it contain itself?", deepest)
}

func want(ok bool, v value.Value, k value.Kind) error {
	if ok {
		return nil
	}
	return fmt.Errorf("%w: %s instead of %s", ErrWrongKind, v.Kind(), k)
}

func rangeError(v value.Value, t reflect.Type) error {
	return refuse.As(ErrInvalid, "%s does not fit in %s", v, t)
}
