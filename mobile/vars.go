package mobile

import (
	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
)

// A variable is a key in a namespace, or in a commit.
type variable[M, T any] struct {
	v    pantry.Var[T]
	as   form[M, T]
	made bool
	ns   *Namespace
}

func (v *variable[M, T]) begin(k *key[M, T], at pantry.Local, of *Namespace) error {
	if err := of.takes(k); err != nil {
		return err
	}
	v.v, v.as, v.made, v.ns = k.k.In(at), k.as, true, of
	return nil
}

func (v *variable[M, T]) ready() error {
	if v == nil || !v.made {
		return handover.Misuse("this variable was not made by a key's bind")
	}
	return nil
}

// Get returns the stored value, or the default. It does not wait, and can be called on the thread
// that draws. Its only error is misuse.
func (v *variable[M, T]) Get() (x M, err error) {
	if err = v.ready(); err != nil {
		return x, err
	}
	return v.as.out(v.v.Get()), nil
}

// Set stores a value. When it returns, the value is on disk, or with Options.SyncWithin soon is.
func (v *variable[M, T]) Set(x M) error { return v.store(x, func(x T) error { return v.v.Set(x) }) }

// Seed stores a value if nothing is stored, and otherwise does nothing.
func (v *variable[M, T]) Seed(x M) error { return v.store(x, func(x T) error { return v.v.Seed(x) }) }

func (v *variable[M, T]) store(x M, f func(T) error) error {
	if err := v.ready(); err != nil {
		return err
	}
	stored, err := v.as.in(x)
	if err == nil {
		err = f(stored)
	}
	return handover.Coded(err)
}

// Clear removes the stored value, so that Get returns the default.
func (v *variable[M, T]) Clear() error {
	if err := v.ready(); err != nil {
		return err
	}
	return handover.Coded(v.v.Clear())
}

// Stored reports whether a usable value is stored. The error says what is wrong with it:
// wrong-kind, invalid or sealed; then Get returns the default.
func (v *variable[M, T]) Stored() (bool, error) {
	if err := v.ready(); err != nil {
		return false, err
	}
	_, found, err := v.v.Lookup()
	return found, handover.Coded(err)
}

// Watch calls changed after each change, by any process, and once at the beginning, until
// Stop.
func (v *variable[M, T]) Watch(r Runner, changed Handler) (*Watching, error) {
	if err := v.ready(); err != nil {
		return nil, err
	}
	return WatchChanges(r, changed, handover.Each(v.v.Watch))
}

// made returns an object, or the error of making it.
func made[V any](v *V, err error) (*V, error) {
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Add adds n and returns the sum. Concurrent additions all count.
func (v *IntVar) Add(n int64) (int64, error) { return number(&v.variable, n, pantry.Add[int64]) }

// Raise stores n if it is larger than the stored value, and returns what is stored.
func (v *IntVar) Raise(n int64) (int64, error) { return number(&v.variable, n, pantry.Raise[int64]) }

// Lower stores n if it is smaller than the stored value, and returns what is stored.
func (v *IntVar) Lower(n int64) (int64, error) { return number(&v.variable, n, pantry.Lower[int64]) }

func number[T pantry.Number](v *variable[T, T], n T, f func(pantry.Var[T], T) (T, error)) (T, error) {
	if err := v.ready(); err != nil {
		return 0, err
	}
	now, err := f(v.v, n)
	return now, handover.Coded(err)
}

// Add adds x and returns the sum.
func (v *FloatVar) Add(x float64) (float64, error) {
	return number(&v.variable, x, pantry.Add[float64])
}

// Raise stores x if it is larger than the stored value, and returns what is stored.
func (v *FloatVar) Raise(x float64) (float64, error) {
	return number(&v.variable, x, pantry.Raise[float64])
}

// Lower stores x if it is smaller than the stored value, and returns what is stored.
func (v *FloatVar) Lower(x float64) (float64, error) {
	return number(&v.variable, x, pantry.Lower[float64])
}
