package pantry

import (
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/value"
)

// A Key is the declaration of an entry: its name, its kind, the default that Get returns while
// nothing is stored, and the rules that a value must keep. Declare each key once, as a package
// variable, and use it wherever the entry is read or written.
//
// A Key is immutable. Methods such as Between return a changed copy. They panic with the remedy
// when they are used wrongly, which happens at the start of the program. A Key is safe for
// concurrent use. The zero Key panics.
type Key[T any] struct {
	_ [0]*T // so that a Key can't be converted to one of another type
	d *definition
}

// AnyKey is any declaration: a Key, a FieldsKey or a RecordsKey.
type AnyKey interface {
	Name() string
	Kind() value.Kind
	// Declared returns the declarations that Declare stores in the file: one for a Key, one per
	// field for a FieldsKey, and a family for a RecordsKey.
	Declared() []DeclaredKey
	behind() anyDefinition
}

func (k Key[T]) behind() anyDefinition { return k.definition() }

// definition returns k's definition. It panics on a zero Key.
func (k Key[T]) definition() *definition {
	if k.d == nil {
		misuse("a zero Key was used; declare it with Bool, Int, Float, Text, Bytes, Time, OneOf, List, Map or Object")
	}
	return k.d
}

// Between allows values from lo to hi, both included. It applies to numbers, text, bytes and times.
// Add obeys it too.
func (k Key[T]) Between(lo, hi T) Key[T] { return Key[T]{d: k.definition().between(&lo, &hi)} }

// Check allows only values for which rule returns nil, both when they are set and when they are
// read. The default need not pass: Text("gardener", "").Check(notEmpty) reads as "" until a name is
// stored. The text of rule's error is shown to users, so write it as a sentence for them. rule must
// not change the value. Any goroutine can call it at any time.
func (k Key[T]) Check(rule func(T) error) Key[T] {
	if rule == nil {
		misuse("Check of %s needs a function, not nil", k.Name())
	}
	return Key[T]{d: k.definition().changed(func(d *definition) { d.rules = append(d.rules, ruleOf(rule)) })}
}

// ruleOf returns a rule of a definition.
func ruleOf[T any](rule func(T) error) func(x any) error {
	return func(x any) error { return rule(*x.(*T)) }
}

// Keep bounds a list to its newest n items, for every writer. The oldest items are removed at the
// front.
func (k Key[T]) Keep(n int) Key[T] { return Key[T]{d: k.definition().keeping(n)} }

// About describes the entry in a few words, for lists of keys.
func (k Key[T]) About(text string) Key[T] {
	return Key[T]{d: k.definition().changed(func(d *definition) { d.about = text })}
}

// CheckName returns an error if name can't be the name of an entry. A name is 1 to 256 bytes of
// UTF-8 without control characters, in parts separated by "/". No part is empty, "." or "..". Names
// are case-sensitive. The error wraps ErrInvalid.
func CheckName(name string) error { return entry.CheckName(name) }

// Name returns the entry's name.
func (k Key[T]) Name() string { return k.definition().name }

// Kind returns the kind of the stored values.
func (k Key[T]) Kind() value.Kind { return k.definition().stored() }

// Default returns a copy of the value that Get returns while nothing is stored.
func (k Key[T]) Default() T { return keydef.Value[T](k.definition().Default()) }

// Encode checks x against the key's rules and returns the value to store. The error wraps
// ErrInvalid.
func (k Key[T]) Encode(x T) (value.Value, error) { return k.definition().Encode(&x) }

// Decode returns what a stored value means to the key. The error wraps ErrWrongKind, or ErrInvalid
// if the value breaks the key's rules.
func (k Key[T]) Decode(v value.Value) (T, error) {
	x, err := k.definition().Decode(v)
	return keydef.Value[T](x), err
}

// Declared returns the declaration.
func (k Key[T]) Declared() []DeclaredKey {
	return []DeclaredKey{DeclaredKey(k.definition().Declaration())}
}

// Parse reads what a user typed, for example in an input field, and checks it against the key's
// rules. White space around it is ignored, except in a text. A number can have a sign and leading
// zeros (+5, 007), start with its point (.5), or have a decimal comma if it can't be a thousands
// separator (4,5 but not 1,000). The error wraps ErrInvalid and is a sentence to show to the user.
func (k Key[T]) Parse(typed string) (T, error) {
	x, err := k.definition().parse(typed)
	return keydef.Value[T](x), err
}

// Format returns x in the form that Parse reads: the text to show in an input field.
func (k Key[T]) Format(x T) string { return k.definition().formatted(&x) }

// Choices returns a copy of the choices of a OneOf key, in the order of the declaration, or nil for
// another key.
func (k Key[T]) Choices() []T {
	d := k.definition()
	var all []T
	for _, c := range d.choice {
		if x, err := d.dec(value.Text(c)); err == nil {
			all = append(all, keydef.Value[T](x))
		}
	}
	return all
}

// Describe returns the text of About.
func (k Key[T]) Describe() string { return k.definition().about }

// Sealed encrypts the values in the file. The namespace must be opened with Seal; otherwise reading
// and writing return ErrSealed. The encryption covers the names of the namespace and the entry, so
// a sealed value can't be moved. Renaming either makes it unreadable. Names, the kinds of other
// keys and sizes are not secret.
//
// If a key becomes sealed, a value that is stored in the clear can still be read, and is reported
// as a Problem. A Set seals it and erases the clear value from the file.
func (k Key[T]) Sealed() Key[T] {
	return Key[T]{d: k.definition().changed(func(d *definition) { d.sealed = true })}
}

// At returns a key of the same family with the same default and rules. Its name is name + "/" +
// part. part is any text, for example a title that a user typed. A byte that can't be in a part of
// a name is written as % and two hex digits; Part decodes it. A name of over 256 bytes is
// ErrInvalid when it is written, and reads as the default.
func (k Key[T]) At(part string) Key[T] { return Key[T]{d: k.definition().member(escapePart(part))} }

// Part returns the part that At was called with for the name of an entry, and reports whether At
// makes that name.
func (k Key[T]) Part(name string) (part string, ok bool) {
	part, ok = strings.CutPrefix(name, k.Name()+"/")
	if !ok || strings.Contains(part, "/") {
		return "", false
	}
	return unescapePart(part), true
}

// In returns the variable for this key in a namespace or in a batch.
func (k Key[T]) In(at Local) Var[T] {
	return variable[T](k.definition().in(at))
}
