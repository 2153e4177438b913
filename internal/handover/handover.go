// Package handover is what package mobile provides to package mobile/boards only. The
// two can't export it, because everything that they export is visible in the other languages.
// Importing mobile sets these variables.
package handover

import (
	"context"
	"iter"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

var (
	// All returns the keys that a *mobile.Keys declares, which can't be changed afterwards.
	All func(keys any) ([]pantry.AnyKey, error)
	// Key returns the pantry.Key[T] of a key of package mobile, one of those keys, or its
	// pantry.RecordsKey[T].
	Key func(keys, key any) (any, error)
	// Form returns how values of a key are converted: a func(M) (T, error), and a func(T) M.
	Form func(key any) (in, out any)
	// Values returns the values of a *mobile.Record, and NewRecord makes one from values.
	Values    func(record any) (map[string]value.Value, error)
	NewRecord func(map[string]value.Value) any
	// Watch returns a *mobile.Watching that passes changes to a mobile.Handler through a
	// mobile.Runner.
	Watch func(runner, handler any, changes func(ctx context.Context) iter.Seq[struct{}]) (any, error)
	// Problems returns a function that passes problems to a mobile.ProblemHandler through a
	// mobile.Runner, in the form that told returns.
	Problems func(runner, handler any, told func(error) error) (func(pantry.Problem), error)
	// Told returns an error in the form that another language can parse.
	Told func(err error) error
	// Failure is an error with its own code.
	Failure func(code, sentence string, cause error) error
)

// Each reduces changes of any type to the fact that there was one.
func Each[E any](changes func(ctx context.Context) iter.Seq[E]) func(ctx context.Context) iter.Seq[struct{}] {
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

// Misuse is a Failure of the caller.
func Misuse(sentence string) error { return Failure("misuse", sentence, nil) }
