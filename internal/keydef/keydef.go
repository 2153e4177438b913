// Package keydef lets package board use what a key declares, apart from the key's type T. A value of T
// is passed as an any that holds a *T. So the code behind the keys is compiled once, and not again for
// each T.
package keydef

import (
	"iter"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// A Definition is what a pantry.Key declares. It is safe for concurrent use.
type Definition interface {
	Name() string
	// Declaration returns the declaration as others see it.
	Declaration() entry.Key
	// Default returns a copy of the default.
	Default() any
	// Encode checks x and returns the value to store; Decode is the inverse. DecodeUnchecked and
	// EncodeUnchecked do not check the key's rules.
	Encode(x any) (value.Value, error)
	Decode(v value.Value) (any, error)
	EncodeUnchecked(x any) (value.Value, error)
	DecodeUnchecked(v value.Value) (any, error)
	// Kept returns a value as the key would store it, or the error with which it would refuse it.
	Kept(v value.Value) (value.Value, error)
	// Copy returns a copy that shares no memory with x, or x itself if T refers to none: see Copies.
	Copy(x any) any
	Copies() bool
	// Merged returns v, which Encode made, with the members of stored that T does not know. Without
	// Merges it returns v.
	Merged(v, stored value.Value) value.Value
	Merges() bool
	// Bounds returns the least and the largest value: those of Between, or for a whole number those of
	// T. The zero Value means no bound.
	Bounds() (min, max value.Value)
	// Checks reports whether the key has a rule of the app's own, which no operation carries.
	Checks() bool
}

// A Collection is what a pantry.RecordsKey declares. It is safe for concurrent use.
type Collection interface {
	// Part returns the part of an entry's name for the id of a record, and ID the inverse.
	Part(id string) string
	ID(part string) string
	// Record returns the definition of the record with an id.
	Record(id string) Definition
}

// Package pantry sets these functions. Of returns the definition of a pantry.Key, and OfRecords that of
// a pantry.RecordsKey. Unkept describes what of the values of any key does not survive being stored.
var (
	Of        func(key any) Definition
	OfRecords func(key any) Collection
	Unkept    func(key any) string
)

// Value returns the value that x points to, or the zero T for nil.
func Value[T any](x any) (y T) {
	if p, ok := x.(*T); ok {
		y = *p
	}
	return y
}

// Values returns what the pointers of a sequence point to.
func Values[T any](all iter.Seq[any]) iter.Seq[T] {
	return func(yield func(T) bool) {
		all(func(x any) bool { return yield(*x.(*T)) })
	}
}

// Records is Values for records, with their ids.
func Records[T any](all iter.Seq2[string, any]) iter.Seq2[string, T] {
	return func(yield func(string, T) bool) {
		all(func(id string, x any) bool { return yield(id, *x.(*T)) })
	}
}

// Order returns the order of two values as that of pointers to them.
func Order[T any](compare func(a, b T) int) func(a, b any) int {
	return func(a, b any) int { return compare(*a.(*T), *b.(*T)) }
}

// Update returns the function of an Update as one of pointers.
func Update[T any](f func(old T) (T, error)) func(old any) (any, error) {
	return func(old any) (any, error) {
		x, err := f(*old.(*T))
		return &x, err
	}
}
