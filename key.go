package pantry

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keyhook"
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

// A Key is the declaration of an entry: its name, its kind, the default that Get returns while
// nothing is stored, and the rules that a value must keep. Declare each key once, as a package
// variable, and use it wherever the entry is read or written.
//
// A Key is immutable. Methods such as Between return a changed copy. They panic with the remedy
// when they are used wrongly, which happens at the start of the program. A Key is safe for
// concurrent use. The zero Key panics.
type Key[T any] struct{ d *definition[T] }

type definition[T any] struct {
	codec[T]
	name     string
	family   string // the key's name before At; empty if At was not called
	kind     value.Kind
	def      T
	rules    []func(T) error
	min, max value.Value // the zero Value means no bound
	choice   []string
	keep     int
	sealed   bool
	about    string
	typed    func(string) (T, error) // parses what a user typed; nil means by kind
	format   func(T) string          // the inverse of typed
	ask      string                  // what a user has to enter; empty means by kind
	unkept   string
	members  *members    // of an Object's struct; else nil
	start    value.Value // def, encoded

	unnameable error // why the name is invalid; a user may have typed part of it

	spare *sync.Pool // of *operation[T]; keys derived from one key share it
}

// AnyKey is any declaration: a Key, a FieldsKey or a RecordsKey.
type AnyKey interface {
	Name() string
	Kind() value.Kind
	// Declared returns the declarations that Declare stores in the file: one for a Key, one per
	// field for a FieldsKey, and a family for a RecordsKey.
	Declared() []DeclaredKey
	examine(ns *Namespace) // reports a stored value that can't be used
	unkept() string        // describes what does not survive a round trip; empty if all does
	// kept returns a value as the key would store it, or an error if the key would refuse it.
	kept(v value.Value) (value.Value, error)
}

func newKey[T any](name string, kind value.Kind, def T, c codec[T]) Key[T] {
	if err := CheckName(name); err != nil {
		misuse("%v", err)
	}
	k := Key[T]{&definition[T]{codec: c, name: name, kind: kind, def: def, spare: new(sync.Pool)}}
	var err error
	if k.d.start, err = c.enc(def); err == nil {
		err = k.d.start.Check()
	}
	if err != nil {
		misuse("the default of %s can't be stored: %v", name, err)
	}
	if c.clone != nil {
		k.d.def = c.clone(def)
	}
	return k
}

// scalar makes a codec from a value's constructor and accessor.
func scalar[T, V any](kind value.Kind, make func(V) value.Value, as func(value.Value) (V, bool), to func(V) T, from func(T) V) codec[T] {
	return codec[T]{
		enc: func(x T) (value.Value, error) { return make(from(x)), nil },
		dec: func(v value.Value) (x T, err error) {
			n, ok := as(v)
			if !ok {
				return x, kindError(v.Kind(), kind)
			}
			return to(n), nil
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
	return newKey(name, value.KindInt, def, codec[T]{
		enc: func(x T) (value.Value, error) { return value.Int(int64(x)), nil },
		dec: func(v value.Value) (T, error) {
			n, ok := v.AsInt()
			if !ok {
				return 0, kindError(v.Kind(), value.KindInt)
			}
			if x := T(n); int64(x) == n && (x < 0) == (n < 0) {
				return x, nil
			}
			return 0, rangeError(v, reflect.TypeFor[T]())
		},
	})
}

// Float declares a number with a fraction. It reads a stored int if the conversion is exact. NaN
// and the infinities can be stored.
func Float(name string, def float64) Key[float64] {
	c := scalar(value.KindFloat, value.Float, value.Value.AsFloat, same[float64], same[float64])
	exact := c.dec
	c.dec = func(v value.Value) (float64, error) {
		if v.Kind() == value.KindInt {
			f, err := value.Convert(v, value.KindFloat)
			if err != nil {
				return 0, err
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

func textCodec[T ~string]() codec[T] {
	return scalar(value.KindText, value.Text, value.Value.AsText,
		func(s string) T { return T(s) }, func(x T) string { return string(x) })
}

// Bytes declares bytes. nil and empty are the same value.
func Bytes(name string, def []byte) Key[[]byte] {
	c := scalar(value.KindBytes, value.Bytes, value.Value.AsBytes, same[[]byte], same[[]byte])
	c.clone = func(b []byte) []byte { return append([]byte{}, b...) }
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
	set := append([]T{first}, rest...)
	k := newKey(name, value.KindText, first, textCodec[T]())
	for i, x := range set {
		if slices.Contains(set[:i], x) {
			misuse("OneOf: the choice %q occurs twice in %s", x, name)
		}
		k.d.choice = append(k.d.choice, string(x))
	}
	k.d.rules = append(k.d.rules, func(x T) error {
		if slices.Contains(set, x) {
			return nil
		}
		return fmt.Errorf("%q is not one of %s", string(x), strings.Join(k.d.choice, ", "))
	})
	return k
}

// List declares a list. E is bool, a number, a string, []byte, time.Time, a slice, a map with
// string keys, a struct, a type with MarshalText, or any for a mixed list. nil and empty are the
// same value.
func List[E any](name string, def ...E) Key[[]E] {
	return composite(name, value.KindList, append([]E{}, def...), []E{})
}

// Map declares a map from text to E. E can be any type that List accepts.
func Map[E any](name string, def map[string]E) Key[map[string]E] {
	if def == nil {
		def = map[string]E{}
	}
	return composite(name, value.KindMap, def, map[string]E{})
}

// Object declares a struct that is one entry: it is read and written as a whole. Its exported
// fields are stored under the names that Fields describes. A field that is missing in the stored
// entry has the value it has in def. Stored members that T does not know are kept when the entry is
// set again.
func Object[T any](name string, def T) Key[T] {
	if t := reflect.TypeFor[T](); t.Kind() != reflect.Struct {
		misuse("Object %s takes a struct, not %s", name, t)
	}
	k := composite(name, value.KindMap, def, def)
	k.d.members = membersOf(reflect.TypeFor[T]())
	return k
}

func composite[T any](name string, kind value.Kind, def, base T) Key[T] {
	k := newKey(name, kind, def, codecOf(kind, base))
	k.d.unkept = coderOf(reflect.TypeFor[T]()).unkept
	return k
}

// definition returns k's definition. It panics on a zero Key.
func (k Key[T]) definition() *definition[T] {
	if k.d == nil {
		misuse("a zero Key was used; declare it with Bool, Int, Float, Text, Bytes, Time, OneOf, List, Map or Object")
	}
	return k.d
}

func (k Key[T]) changed(f func(d *definition[T])) Key[T] {
	d := *k.definition()
	d.rules = slices.Clone(d.rules)
	f(&d)
	if err := d.bounded(d.def); err != nil {
		misuse("the default of %s breaks its own rule: %v", d.name, err)
	}
	return Key[T]{&d}
}

// Between allows values from lo to hi, both included. It applies to numbers, text, bytes and times.
// Add obeys it too.
func (k Key[T]) Between(lo, hi T) Key[T] {
	return k.changed(func(d *definition[T]) {
		var err1, err2 error
		d.min, err1 = d.enc(lo)
		d.max, err2 = d.enc(hi)
		order, ok := value.Compare(d.min, d.max)
		switch {
		case err1 != nil || err2 != nil || !ok:
			misuse("Between of %s needs values with an order: numbers, text, bytes or times; use Check for %s", d.name, d.kind)
		case order > 0:
			misuse("Between of %s has its bounds in the wrong order: write Between(%v, %v)", d.name, hi, lo)
		}
	})
}

// Check allows only values for which rule returns nil, both when they are set and when they are
// read. The default need not pass: Text("gardener", "").Check(notEmpty) reads as "" until a name is
// stored. The text of rule's error is shown to users, so write it as a sentence for them. rule must
// not change the value. Any goroutine can call it at any time.
func (k Key[T]) Check(rule func(T) error) Key[T] {
	if rule == nil {
		misuse("Check of %s needs a function, not nil", k.Name())
	}
	return k.changed(func(d *definition[T]) { d.rules = append(d.rules, rule) })
}

// Keep bounds a list to its newest n items, for every writer. The oldest items are removed at the
// front.
func (k Key[T]) Keep(n int) Key[T] {
	return k.changed(func(d *definition[T]) {
		if d.kind != value.KindList || n < 1 {
			misuse("Keep of %s needs a list and at least 1", d.name)
		}
		v, err := d.enc(d.def)
		if err == nil && v.Len() > n {
			misuse("the default of %s has %d items, and Keep(%d) allows fewer", d.name, v.Len(), n)
		}
		d.keep = n
	})
}

// About describes the entry in a few words, for lists of keys.
func (k Key[T]) About(text string) Key[T] {
	return k.changed(func(d *definition[T]) { d.about = text })
}

// CheckName returns an error if name can't be the name of an entry. A name is 1 to 256 bytes of
// UTF-8 without control characters, in parts separated by "/". No part is empty, "." or "..". Names
// are case-sensitive. The error wraps ErrInvalid.
func CheckName(name string) error { return entry.CheckName(name) }

// Name returns the entry's name.
func (k Key[T]) Name() string { return k.definition().name }

// Kind returns the kind of the stored values.
func (k Key[T]) Kind() value.Kind {
	if k.definition().sealed {
		return value.KindSealed
	}
	return k.d.kind
}

// Default returns a copy of the value that Get returns while nothing is stored.
func (k Key[T]) Default() T { return k.definition().copied(k.d.def) }

func (d *definition[T]) copied(x T) T {
	if d.clone == nil {
		return x
	}
	return d.clone(x)
}

// Encode checks x against the key's rules and returns the value to store. The error wraps
// ErrInvalid.
func (k Key[T]) Encode(x T) (value.Value, error) { return k.definition().encode(x) }

func (d *definition[T]) encode(x T) (value.Value, error) {
	if err := d.check(x); err != nil {
		return value.Value{}, err
	}
	v, err := d.enc(x)
	if err == nil {
		v, _, err = value.Op{Verb: value.Put, Operand: v, Keep: d.keep}.Apply(value.Value{})
	}
	if err == nil {
		err = v.Check()
	}
	return v, err
}

// Decode returns what a stored value means to the key. The error wraps ErrWrongKind, or ErrInvalid
// if the value breaks the key's rules.
func (k Key[T]) Decode(v value.Value) (T, error) { return k.definition().decode(v) }

func (d *definition[T]) decode(v value.Value) (T, error) {
	x, err := d.dec(v)
	if err == nil {
		err = d.check(x)
	}
	return x, err
}

func init() {
	keyhook.Checks = func(key any) bool {
		k, ok := key.(interface{ hasRules() bool })
		return ok && k.hasRules()
	}
	keyhook.Check = func(key any) func(value.Value) error {
		if !keyhook.Checks(key) {
			return nil
		}
		k, ok := key.(AnyKey)
		if !ok {
			return nil
		}
		return func(v value.Value) error { _, err := k.kept(v); return err }
	}
	keyhook.Unkept = func(key any) string {
		k, ok := key.(AnyKey)
		if !ok {
			return ""
		}
		return k.unkept()
	}
	keyhook.Part = func(key any, id string) string { return key.(interface{ part(string) string }).part(id) }
	keyhook.ID = func(key any, part string) string { return key.(interface{ id(string) string }).id(part) }
}

// structure returns the members of an Object's struct, else nil.
func (k Key[T]) structure() (m *members, family bool) { return k.definition().members, false }

// hasRules reports whether the key has rules besides Between and Keep.
func (k Key[T]) hasRules() bool { return len(k.definition().rules) > 0 }

// check returns an error that wraps ErrInvalid if x breaks the rules.
func (d *definition[T]) check(x T) error {
	if d.unnameable != nil {
		return d.unnameable
	}
	if err := d.bounded(x); err != nil {
		return err
	}
	for _, rule := range d.rules {
		if err := rule(x); err != nil {
			return &invalid{err.Error(), err}
		}
	}
	return nil
}

func (k Key[T]) kept(v value.Value) (value.Value, error) {
	x, err := k.Decode(v)
	if err != nil {
		return v, err
	}
	return k.Encode(x)
}

// bounded returns an error if x is outside the bounds.
func (d *definition[T]) bounded(x T) error {
	if d.min.IsZero() {
		return nil
	}
	v, err := d.enc(x)
	if err == nil {
		err = value.Within(v, d.min, d.max)
	}
	if err != nil {
		shown := entry.Quoted(v)
		if d.format != nil {
			shown = d.format(x)
		}
		return &invalid{sentence: fmt.Sprintf("%s is not from %s to %s", shown, d.shown(d.min), d.shown(d.max))}
	}
	return nil
}

// invalid is an ErrInvalid whose text is only the sentence.
type invalid struct {
	sentence string
	cause    error
}

func (e *invalid) Error() string { return e.sentence }

func (e *invalid) Unwrap() []error {
	if e.cause == nil {
		return []error{ErrInvalid}
	}
	return []error{ErrInvalid, e.cause}
}

// Declared returns the declaration.
func (k Key[T]) Declared() []DeclaredKey {
	d := k.definition()
	out := DeclaredKey{Name: d.name, Kind: k.Kind(), About: d.about, Min: d.min, Max: d.max, Keep: d.keep, Choices: d.choice}
	if !d.sealed {
		out.Default = d.start
	}
	return []DeclaredKey{out}
}

func (k Key[T]) unkept() string { return k.definition().unkept }

// Copy returns a copy of x that shares no memory with it.
func (k Key[T]) Copy(x T) T { return k.definition().copied(x) }

// Copies reports whether Copy copies anything: T holds a slice, a map, a pointer or an interface.
func (k Key[T]) Copies() bool { return k.definition().clone != nil }

// Merged returns v, which Encode made, with the members of stored that T does not know. A newer
// program may have stored them. If v is no struct, Merged returns v.
func (k Key[T]) Merged(v, stored value.Value) value.Value {
	d := k.definition()
	if d.merge == nil || stored.IsZero() {
		return v
	}
	if _, err := d.decode(stored); err != nil {
		return v
	}
	return d.merge(v, stored)
}

// Merges reports whether Merged can return something else than its argument.
func (k Key[T]) Merges() bool { return k.definition().merge != nil }

// EncodeAny is Encode without the key's rules, for example for one item of a list.
func (k Key[T]) EncodeAny(x T) (value.Value, error) {
	v, err := k.definition().enc(x)
	if err == nil {
		err = v.Check()
	}
	return v, err
}

// DecodeAny is Decode without the key's rules.
func (k Key[T]) DecodeAny(v value.Value) (T, error) { return k.definition().dec(v) }

// Bounds returns the least and the largest value of the key: those of Between, or for a whole
// number those of T. The zero Value means no bound.
func (k Key[T]) Bounds() (min, max value.Value) {
	d := k.definition()
	if !d.min.IsZero() {
		return d.min, d.max
	}
	if lo, hi, ok := d.integers(); ok && d.kind == value.KindInt {
		return value.Int(lo), value.Int(hi)
	}
	return min, max
}
