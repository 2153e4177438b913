package mobile

import (
	"time"

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
		return misuse("this variable was not made by a key's bind")
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
	return told(err)
}

// Clear removes the stored value, so that Get returns the default.
func (v *variable[M, T]) Clear() error {
	if err := v.ready(); err != nil {
		return err
	}
	return told(v.v.Clear())
}

// Stored reports whether a usable value is stored. The error says what is wrong with it:
// wrong-kind, invalid or sealed; then Get returns the default.
func (v *variable[M, T]) Stored() (bool, error) {
	if err := v.ready(); err != nil {
		return false, err
	}
	_, found, err := v.v.Lookup()
	return found, told(err)
}

// Watch calls changed after each change, by any process, and once at the beginning, until
// Stop.
func (v *variable[M, T]) Watch(r Runner, changed Handler) (*Watching, error) {
	if err := v.ready(); err != nil {
		return nil, err
	}
	return watch(r, changed, handover.Each(v.v.Watch))
}

// Whole is an integer in a namespace.
type Whole struct{ variable[int64, int64] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *WholeKey) Bind(ns *Namespace) (*Whole, error) {
	v := &Whole{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *WholeKey) In(b *Batch) (*Whole, error) {
	v := &Whole{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// made returns an object, or the error of making it.
func made[V any](v *V, err error) (*V, error) {
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Add adds n and returns the sum. Concurrent additions all count.
func (v *Whole) Add(n int64) (int64, error) { return number(&v.variable, n, pantry.Add[int64]) }

// Raise stores n if it is larger than the stored value, and returns what is stored.
func (v *Whole) Raise(n int64) (int64, error) { return number(&v.variable, n, pantry.Raise[int64]) }

// Lower stores n if it is smaller than the stored value, and returns what is stored.
func (v *Whole) Lower(n int64) (int64, error) { return number(&v.variable, n, pantry.Lower[int64]) }

func number[T pantry.Number](v *variable[T, T], n T, f func(pantry.Var[T], T) (T, error)) (T, error) {
	if err := v.ready(); err != nil {
		return 0, err
	}
	now, err := f(v.v, n)
	return now, told(err)
}

// Decimal is a float in a namespace.
type Decimal struct{ variable[float64, float64] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *DecimalKey) Bind(ns *Namespace) (*Decimal, error) {
	v := &Decimal{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *DecimalKey) In(b *Batch) (*Decimal, error) {
	v := &Decimal{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Add adds x and returns the sum.
func (v *Decimal) Add(x float64) (float64, error) {
	return number(&v.variable, x, pantry.Add[float64])
}

// Switch is a boolean in a namespace.
type Switch struct{ variable[bool, bool] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *SwitchKey) Bind(ns *Namespace) (*Switch, error) {
	v := &Switch{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *SwitchKey) In(b *Batch) (*Switch, error) {
	v := &Switch{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Text is a text in a namespace.
type Text struct{ variable[string, string] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *TextKey) Bind(ns *Namespace) (*Text, error) {
	v := &Text{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *TextKey) In(b *Batch) (*Text, error) {
	v := &Text{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Bytes are bytes in a namespace.
type Bytes struct{ variable[[]byte, []byte] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *BytesKey) Bind(ns *Namespace) (*Bytes, error) {
	v := &Bytes{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *BytesKey) In(b *Batch) (*Bytes, error) {
	v := &Bytes{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Time is a moment in a namespace, in milliseconds since 1970 (UTC).
type Time struct{ variable[int64, time.Time] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *TimeKey) Bind(ns *Namespace) (*Time, error) {
	v := &Time{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *TimeKey) In(b *Batch) (*Time, error) {
	v := &Time{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Span is a duration in a namespace, in milliseconds.
type Span struct{ variable[int64, time.Duration] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *SpanKey) Bind(ns *Namespace) (*Span, error) {
	v := &Span{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *SpanKey) In(b *Batch) (*Span, error) {
	v := &Span{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// List is a list of texts in a namespace.
type List struct{ variable[*Texts, []string] }

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *ListKey) Bind(ns *Namespace) (*List, error) {
	v := &List{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In returns the key's variable in a commit.
func (k *ListKey) In(b *Batch) (*List, error) {
	v := &List{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Append adds an item at the end; with unique, only if the list does not have it.
func (v *List) Append(item string, unique bool) error {
	f := pantry.Append[[]string]
	if unique {
		f = pantry.AppendUnique[[]string]
	}
	return v.items(func(l pantry.Var[[]string]) error { _, err := f(l, item); return err })
}

// Remove removes the first equal item; with all, every equal item.
func (v *List) Remove(item string, all bool) error {
	f := pantry.Remove[[]string]
	if all {
		f = pantry.RemoveAll[[]string]
	}
	return v.items(func(l pantry.Var[[]string]) error { _, err := f(l, item); return err })
}

// Take removes an item and returns it: 0 is the first, -1 the last. If there is none, the error is
// absent.
func (v *List) Take(at int) (item string, err error) {
	found := false
	err = v.items(func(l pantry.Var[[]string]) (err error) {
		item, found, err = pantry.Take(l, at)
		return err
	})
	if err == nil && !found {
		err = &failure{"absent", "there is nothing at that place of the list", pantry.ErrAbsent}
	}
	return item, err
}

func (v *List) items(f func(pantry.Var[[]string]) error) error {
	if err := v.ready(); err != nil {
		return err
	}
	return told(f(v.v))
}
