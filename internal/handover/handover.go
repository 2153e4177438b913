// Package handover is what package mobile hands to package mobile/shared, and to nobody who
// uses either: another language sees all that a package exports. Importing mobile sets it.
package handover

import (
	"context"
	"iter"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

var (
	// All gives the keys that a *mobile.Keys declares, which then stay as they are.
	All func(keys any) ([]pantry.AnyKey, error)
	// Key gives the pantry.Key[T] that a key of package mobile is, of those keys, or its
	// pantry.RecordsKey[T].
	Key func(keys, key any) (any, error)
	// Form gives how values of a key change from one language to the other: a
	// func(M) (T, error), and a func(T) M.
	Form func(key any) (in, out any)
	// Values gives what is in a *mobile.Record, and NewRecord one of them.
	Values    func(record any) (map[string]value.Value, error)
	NewRecord func(map[string]value.Value) any
	// Watch gives a *mobile.Watching, which tells a mobile.Handler of changes through a
	// mobile.Runner.
	Watch func(runner, handler any, changes func(ctx context.Context) iter.Seq[struct{}]) (any, error)
	// Problems gives what tells a mobile.ProblemHandler of problems through a mobile.Runner, in
	// words that told gives.
	Problems func(runner, handler any, told func(error) error) (func(pantry.Problem), error)
	// Told makes an error one that another language can take apart.
	Told func(err error) error
	// Failure is one with a code of its own.
	Failure func(code, sentence string, cause error) error
)

// Each has changes of any kind be news, and no more.
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

// Misuse is a Failure of whoever calls.
func Misuse(sentence string) error { return Failure("misuse", sentence, nil) }
