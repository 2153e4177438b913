// Package handover has what packages mobile and mobile/boards share. A method of package mobile that takes or returns
// one of these types serves package boards: gobind leaves it out of other languages, and other modules can't name
// the types.
package handover

import (
	"context"
	"iter"

	"github.com/small-pantry/pantry"
)

// A Key is a key of package mobile, with how its values are converted: M is the type in the other language.
type Key[M, T any] struct {
	Key pantry.Key[T]
	In  func(M) (T, error)
	Out func(T) M
}

// Declared returns the key.
func (k Key[M, T]) Declared() pantry.AnyKey { return k.Key }

// An AnyKey is a Key with any type arguments.
type AnyKey interface{ Declared() pantry.AnyKey }

// Changes iterates over the fact that something changed, until the context ends.
type Changes func(ctx context.Context) iter.Seq[struct{}]

// Each reduces changes of any type to Changes.
func Each[E any](changes func(ctx context.Context) iter.Seq[E]) Changes {
	return func(ctx context.Context) iter.Seq[struct{}] {
		return func(yield func(struct{}) bool) {
			for range changes(ctx) {
				if !yield(struct{}{}) {
					return
				}
			}
		}
	}
}
