package pantry

import (
	"bytes"
	"encoding"
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"reflect"
	"runtime"
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
		return
	case t == typeValue:
		c.enc = func(x reflect.Value, deep int) (value.Value, error) { return x.Interface().(value.Value), nil }
		c.dec = func(v value.Value, x reflect.Value) error { x.Set(reflect.ValueOf(v)); return nil }
		return
	case t.Implements(typeMarshal) && reflect.PointerTo(t).Implements(typeUnmarshal):
		if from := promoted(t); from != "" {
			misuse("the struct %s would be stored only as the text of its embedded %s, whose MarshalText it has; give the field a name, or write a MarshalText method", t, from)
		}
		c.textual(t)
		return
	}
	switch t.Kind() {
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

// promoted returns the embedded field from which a struct has its MarshalText, if the struct has
// other fields, which that method would omit.
func promoted(t reflect.Type) string {
	if t.Kind() != reflect.Struct || t.NumField() < 2 {
		return ""
	}
	m, ok := t.MethodByName("MarshalText")
	if !ok {
		return ""
	}
	// A method of an embedded field is called through one that the compiler makes.
	pc := m.Func.Pointer()
	if file, _ := runtime.FuncForPC(pc).FileLine(pc); file != "<autogenerated>" {
		return ""
	}
	for i := range t.NumField() {
		if f := t.Field(i); f.Anonymous && (f.Type.Implements(typeMarshal) || reflect.PointerTo(f.Type).Implements(typeMarshal)) {
			return f.Name
		}
	}
	return ""
}

// refersTo reports whether a value of a type shares memory when it is assigned.
func refersTo(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Slice, reflect.Map, reflect.Pointer, reflect.Interface:
		return true
	case reflect.Array:
		return refersTo(t.Elem())
	case reflect.Struct:
		for i := range t.NumField() {
			if f := t.Field(i); f.Type.Kind() != reflect.Pointer && refersTo(f.Type) {
				return true
			}
		}
	}
	return false
}

func (c *coder) textual(t reflect.Type) {
	if refersTo(t) { // only its own methods know what it refers to
		c.refers = true
		c.copy = func(dst, src reflect.Value) {
			v, err := c.enc(src, 0)
			if err == nil {
				err = c.dec(v, dst)
			}
			if err != nil {
				dst.Set(src)
			}
		}
	}
	c.enc = func(x reflect.Value, deep int) (value.Value, error) {
		b, err := x.Interface().(encoding.TextMarshaler).MarshalText()
		return value.Text(string(b)), err
	}
	c.dec = func(v value.Value, x reflect.Value) error {
		s, ok := v.AsText()
		if !ok {
			return want(ok, v, value.KindText)
		}
		if err := x.Addr().Interface().(encoding.TextUnmarshaler).UnmarshalText([]byte(s)); err != nil {
			return fmt.Errorf("%w: %w", ErrInvalid, err)
		}
		return nil
	}
}

func (c *coder) sequence(t reflect.Type, building map[reflect.Type]*coder) {
	slice := t.Kind() == reflect.Slice
	if slice && t.Elem().Kind() == reflect.Uint8 {
		c.refers = true
		c.copy = func(dst, src reflect.Value) { dst.SetBytes(bytes.Clone(src.Bytes())) }
		c.enc = func(x reflect.Value, deep int) (value.Value, error) {
			return value.Text(base64.StdEncoding.EncodeToString(x.Bytes())), nil
		}
		c.dec = func(v value.Value, x reflect.Value) error {
			s, ok := v.AsText()
			v, err := value.FromTyped(value.KindBytes, s)
			if err == nil {
				b, _ := v.AsBytes()
				x.SetBytes(b)
			}
			return errors.Join(want(ok, v, value.KindText), err)
		}
		return
	}
	elem := build(t.Elem(), building)
	c.refers = slice || elem.refers
	c.unkept = elem.unkept
	c.copy = func(dst, src reflect.Value) {
		if slice {
			if src.IsNil() {
				return
			}
			dst.Set(reflect.MakeSlice(t, src.Len(), src.Len()))
		}
		if !elem.refers {
			reflect.Copy(dst, src)
			return
		}
		for i := range src.Len() {
			elem.copy(dst.Index(i), src.Index(i))
		}
	}
	c.enc = func(x reflect.Value, deep int) (value.Value, error) {
		if err := tooDeep(deep); err != nil {
			return value.Value{}, err
		}
		items := make([]value.Value, x.Len())
		for i := range items {
			var err error
			if items[i], err = elem.enc(x.Index(i), deep+1); err != nil {
				return value.Value{}, fmt.Errorf("item %d: %w", i, err)
			}
		}
		return value.List(items...), nil
	}
	c.dec = func(v value.Value, x reflect.Value) error {
		if v.Kind() != value.KindList {
			return want(false, v, value.KindList)
		}
		if slice {
			x.Set(reflect.MakeSlice(t, v.Len(), v.Len()))
		} else if v.Len() != x.Len() {
			return refuse.As(ErrInvalid, "%d items instead of %d", v.Len(), x.Len())
		}
		for i := range v.Len() {
			if err := elem.dec(v.Item(i), x.Index(i)); err != nil {
				return fmt.Errorf("item %d: %w", i, err)
			}
		}
		return nil
	}
}

func (c *coder) mapping(t reflect.Type, building map[reflect.Type]*coder) {
	if t.Key().Kind() != reflect.String {
		misuse("a map with keys of type %s can't be stored; use string keys", t.Key())
	}
	elem := build(t.Elem(), building)
	c.refers, c.unkept = true, elem.unkept
	c.copy = func(dst, src reflect.Value) {
		if src.IsNil() {
			return
		}
		dst.Set(reflect.MakeMapWithSize(t, src.Len()))
		for k, x := range src.Seq2() {
			y := reflect.New(t.Elem()).Elem()
			elem.copy(y, x)
			dst.SetMapIndex(k, y)
		}
	}
	c.enc = func(x reflect.Value, deep int) (value.Value, error) {
		if err := tooDeep(deep); err != nil {
			return value.Value{}, err
		}
		members := make([]value.Member, 0, x.Len())
		for k, item := range x.Seq2() {
			// SetMapIndex needs an addressable value, so this copies it.
			at := reflect.New(t.Elem()).Elem()
			at.Set(item)
			v, err := elem.enc(at, deep+1)
			if err != nil {
				return value.Value{}, fmt.Errorf("%q: %w", k.String(), err)
			}
			members = append(members, value.Member{Name: k.String(), Value: v})
		}
		return value.Map(members...)
	}
	c.dec = func(v value.Value, x reflect.Value) error {
		if v.Kind() != value.KindMap {
			return want(false, v, value.KindMap)
		}
		x.Set(reflect.MakeMapWithSize(t, v.Len()))
		for _, m := range v.Members() {
			y := reflect.New(t.Elem()).Elem()
			if err := elem.dec(m.Value, y); err != nil {
				return fmt.Errorf("%q: %w", m.Name, err)
			}
			x.SetMapIndex(reflect.ValueOf(m.Name).Convert(t.Key()), y)
		}
		return nil
	}
}

func (c *coder) pointer(t reflect.Type, building map[reflect.Type]*coder) {
	elem := build(t.Elem(), building)
	c.refers, c.unkept = true, elem.unkept
	c.copy = func(dst, src reflect.Value) {
		if !src.IsNil() {
			dst.Set(reflect.New(t.Elem()))
			elem.copy(dst.Elem(), src.Elem())
		}
	}
	c.enc = func(x reflect.Value, deep int) (value.Value, error) {
		if x.IsNil() {
			return value.Null(), nil
		}
		if err := tooDeep(deep); err != nil {
			return value.Value{}, err
		}
		return elem.enc(x.Elem(), deep+1)
	}
	c.dec = func(v value.Value, x reflect.Value) error {
		if v.Kind() == value.KindNull {
			x.SetZero()
			return nil
		}
		x.Set(reflect.New(t.Elem()))
		return elem.dec(v, x.Elem())
	}
}

// dynamic handles any: the value decides the type. Decoding returns nil, bool, int64, float64,
// string, []any or map[string]any.
func (c *coder) dynamic(t reflect.Type) {
	if t.NumMethod() > 0 {
		misuse("a value of interface type %s can't be stored, since its type is unknown when it is read; use a concrete type or any", t)
	}
	c.refers = true
	c.enc = func(x reflect.Value, deep int) (value.Value, error) {
		if x.IsNil() {
			return value.Null(), nil
		}
		at := reflect.New(x.Elem().Type()).Elem()
		at.Set(x.Elem())
		return coderOf(at.Type()).enc(at, deep+1)
	}
	c.dec = func(v value.Value, x reflect.Value) error {
		g := plain(v)
		if g == nil {
			x.SetZero()
			return nil
		}
		x.Set(reflect.ValueOf(g))
		return nil
	}
	c.copy = func(dst, src reflect.Value) {
		if src.IsNil() {
			return
		}
		at := reflect.New(src.Elem().Type()).Elem()
		coderOf(at.Type()).copy(at, src.Elem())
		dst.Set(at)
	}
}

func plain(v value.Value) any {
	switch v.Kind() {
	case value.KindBool:
		b, _ := v.AsBool()
		return b
	case value.KindInt:
		n, _ := v.AsInt()
		return n
	case value.KindFloat:
		f, _ := v.AsFloat()
		return f
	case value.KindText:
		return v.String()
	case value.KindList:
		items := make([]any, v.Len())
		for i := range items {
			items[i] = plain(v.Item(i))
		}
		return items
	case value.KindMap:
		members := make(map[string]any, v.Len())
		for _, m := range v.Members() {
			members[m.Name] = plain(m.Value)
		}
		return members
	}
	return nil
}
