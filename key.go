package pantry

import (
	"fmt"
	"slices"
	"sync"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keyhook"
	"github.com/small-pantry/pantry/value"
)

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
