package pantry

import (
	"context"
	"iter"

	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/slot"
)

// A Var is a key in one place: in a namespace, or in a batch. It is a small value to copy and keep,
// and it is safe for concurrent use. Bind it once with Key.In rather than at each use; then reading
// costs a few nanoseconds. The zero Var panics.
type Var[T any] struct {
	_ [0]*T // so that a Var can't be converted to one of another type
	b *binding
	s *slot.Slot // of b; nil for a zero Var
}

func variable[T any](b *binding) Var[T] { return Var[T]{b: b, s: &b.Slot} }

func (v Var[T]) binding() *binding {
	if v.b == nil {
		misuse("a zero Var was used; get one from Key.In")
	}
	return v.b
}

// Get returns the stored value, or the key's default if nothing is stored or the stored value can't
// be used. An unusable value is reported as a Problem. Get never fails and never waits. The caller
// owns the value: changing it changes nothing that is stored. Get allocates nothing if T holds no
// slice, map, pointer or interface.
func (v Var[T]) Get() T { return *(*T)(v.s.Load()) }

// Lookup returns the stored value and distinguishes four cases. A value is stored: found, no error.
// Nothing is stored: not found, no error. The stored value has another kind: ErrWrongKind. It
// breaks the key's rules or its type's range: ErrInvalid. In the last three cases x is the default.
func (v Var[T]) Lookup() (x T, found bool, err error) {
	r, err := v.binding().lookup()
	return keydef.Value[T](v.b.d.Copy(r.x)), r.found, err
}

// Set stores x. When it returns nil, x is on disk and visible. Otherwise nothing has changed. Set
// replaces a stored value of any kind. A Set of the stored value writes nothing. A Set of the
// default while nothing is stored does write.
//
// The errors are ErrInvalid if x breaks the key's rules; ErrTooLarge; ErrClosed; ErrReadOnly;
// ErrBusy; and ErrNotStored or ErrUncertain if the disk fails. A sync can take tens of
// milliseconds, so don't call Set on the thread that draws.
func (v Var[T]) Set(x T) error { return v.binding().set(&x) }

// Seed stores x if nothing is stored, and otherwise changes nothing. The errors are those of Set.
func (v Var[T]) Seed(x T) error { return v.binding().seed(&x) }

// Clear removes the entry, of any kind. Get then returns the default. Clearing an absent
// entry is no error.
func (v Var[T]) Clear() error { return v.binding().clear() }

// Update stores the value that f returns for the present value, or for the default if nothing is
// stored. It returns the value that is stored then. No concurrent change is lost: if the entry
// changed while f ran, f runs again. So f must have no side effects and must not write. If f
// returns an error, Update returns it and changes nothing.
//
// Update does not pass an unusable stored value to f. It returns ErrWrongKind or ErrInvalid, since
// a default must not overwrite the stored value. Set and Clear overwrite it on purpose. Other
// errors are those of Set.
func (v Var[T]) Update(f func(old T) (T, error)) (now T, err error) {
	x, err := v.binding().update(keydef.Update(f), func(*reading) error { return nil })
	return keydef.Value[T](x), err
}

// Watch yields the value now, and then the newest value after each change by any program. One loop
// body serves the first value and later ones. A slow body skips values, but never the last one. The
// loop ends when the body breaks, ctx ends, or the namespace is closed. The body can write, and can
// close the namespace. Values that can't be used are yielded as the default.
func (v Var[T]) Watch(ctx context.Context) iter.Seq[T] {
	return keydef.Values[T](v.binding().watch(ctx))
}
