package pantry

import (
	"reflect"
	"time"

	"github.com/small-pantry/pantry/value"
)

// Integer lists the types of an Int key. It excludes uint and uint64, since the file stores signed
// 64-bit numbers.
type Integer interface {
	~int | ~int8 | ~int16 | ~int32 | ~int64 | ~uint8 | ~uint16 | ~uint32
}

// Number lists the types that Add, Raise and Lower accept.
type Number interface {
	Integer | ~float32 | ~float64
}

func newKey[T any](name string, kind value.Kind, def T, c codec) Key[T] {
	return Key[T]{d: newDefinition(name, kind, &def, c)}
}

// scalar makes a codec from a value's constructor and accessor.
func scalar[T, V any](kind value.Kind, make func(V) value.Value, as func(value.Value) (V, bool), to func(V) T, from func(T) V) codec {
	return codec{
		enc: func(x any) (value.Value, error) { return make(from(*x.(*T))), nil },
		dec: func(v value.Value) (any, error) {
			n, ok := as(v)
			if !ok {
				return nil, kindError(v.Kind(), kind)
			}
			x := to(n)
			return &x, nil
		},
	}
}

func same[T any](x T) T { return x }

// Bool declares an entry that is true or false.
func Bool(name string, def bool) Key[bool] {
	return newKey(name, value.KindBool, def, scalar(value.KindBool, value.Bool, value.Value.AsBool, same[bool], same[bool]))
}

// Int declares a whole number. A stored number outside T's range is ErrInvalid, and a stored float
// is ErrWrongKind: nothing is truncated.
func Int[T Integer](name string, def T) Key[T] {
	return newKey(name, value.KindInt, def, codec{
		enc: func(x any) (value.Value, error) { return value.Int(int64(*x.(*T))), nil },
		dec: func(v value.Value) (any, error) {
			n, ok := v.AsInt()
			if !ok {
				return nil, kindError(v.Kind(), value.KindInt)
			}
			if x := T(n); int64(x) == n && (x < 0) == (n < 0) {
				return &x, nil
			}
			return nil, rangeError(v, reflect.TypeFor[T]())
		},
	})
}

// Float declares a number with a fraction. It reads a stored int if the conversion is exact. NaN
// and the infinities can be stored.
func Float(name string, def float64) Key[float64] {
	c := scalar(value.KindFloat, value.Float, value.Value.AsFloat, same[float64], same[float64])
	exact := c.dec
	c.dec = func(v value.Value) (any, error) {
		if v.Kind() == value.KindInt {
			f, err := value.Convert(v, value.KindFloat)
			if err != nil {
				return nil, err
			}
			v = f
		}
		return exact(v)
	}
	return newKey(name, value.KindFloat, def, c)
}

// Text declares a UTF-8 text. An empty text is a value.
func Text[T ~string](name string, def T) Key[T] {
	return newKey(name, value.KindText, def, textCodec[T]())
}

func textCodec[T ~string]() codec {
	return scalar(value.KindText, value.Text, value.Value.AsText,
		func(s string) T { return T(s) }, func(x T) string { return string(x) })
}

// Bytes declares bytes. nil and empty are the same value.
func Bytes(name string, def []byte) Key[[]byte] {
	c := scalar(value.KindBytes, value.Bytes, value.Value.AsBytes, same[[]byte], same[[]byte])
	c.clone = func(x any) any {
		b := append([]byte{}, *x.(*[]byte)...)
		return &b
	}
	return newKey(name, value.KindBytes, def, c)
}

// Time declares a moment in UTC, to the nanosecond. The zone and the monotonic clock are not
// stored. Years are 0 to 9999.
func Time(name string, def time.Time) Key[time.Time] {
	return newKey(name, value.KindTime, def.UTC().Round(0), scalar(value.KindTime, value.Time, value.Value.AsTime, same[time.Time], same[time.Time]))
}

// OneOf declares a choice from a fixed set. The first choice is the default. A stored text that is
// not in the set, for example after a choice was removed, is ErrInvalid.
func OneOf[T ~string](name string, first T, rest ...T) Key[T] {
	k := newKey(name, value.KindText, first, textCodec[T]())
	choices := []string{string(first)}
	for _, x := range rest {
		choices = append(choices, string(x))
	}
	k.d.choose(choices, func(x any) string { return string(*x.(*T)) })
	return k
}

// List declares a list. E is bool, a number, a string, []byte, time.Time, a slice, a map with
// string keys, a struct, a type with MarshalText, or any for a mixed list. nil and empty are the
// same value.
func List[E any](name string, def ...E) Key[[]E] {
	def, none := append([]E{}, def...), []E{}
	return Key[[]E]{d: composite(name, value.KindList, &def, &none)}
}

// Map declares a map from text to E. E can be any type that List accepts.
func Map[E any](name string, def map[string]E) Key[map[string]E] {
	if def == nil {
		def = map[string]E{}
	}
	none := map[string]E{}
	return Key[map[string]E]{d: composite(name, value.KindMap, &def, &none)}
}

// Object declares a struct that is one entry: it is read and written as a whole. Its exported
// fields are stored under the names that Fields describes. A field that is missing in the stored
// entry has the value it has in def. Stored members that T does not know are kept when the entry is
// set again.
func Object[T any](name string, def T) Key[T] {
	if t := reflect.TypeFor[T](); t.Kind() != reflect.Struct {
		misuse("Object %s takes a struct, not %s", name, t)
	}
	d := composite(name, value.KindMap, &def, &def)
	d.members = membersOf(reflect.TypeFor[T]())
	return Key[T]{d: d}
}

// composite makes the definition of a key of any type that coderOf accepts.
func composite(name string, kind value.Kind, def, base any) *definition {
	d := newDefinition(name, kind, def, codecOf(kind, base))
	d.unkept = coderOf(reflect.TypeOf(def).Elem()).unkept
	return d
}
