package mobile

import (
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
)

// A variable is a key on a namespace, or in a commit.
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

// Get gives what is stored, or else the default. It does not wait, and may be called on the
// thread that draws. Its only error is misuse.
func (v *variable[M, T]) Get() (x M, err error) {
	if err = v.ready(); err != nil {
		return x, err
	}
	return v.as.out(v.v.Get()), nil
}

// Set stores a value; when it returns, it is on the disk, or with Options.SyncWithin soon is.
func (v *variable[M, T]) Set(x M) error { return v.store(x, func(x T) error { return v.v.Set(x) }) }

// Seed is Set where nothing is stored, and else does nothing.
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

// Clear removes what is stored, so that the default is what Get gives.
func (v *variable[M, T]) Clear() error {
	if err := v.ready(); err != nil {
		return err
	}
	return told(v.v.Clear())
}

// Stored says whether something is stored that can be used. The error says what is wrong with
// it: wrong-kind, invalid or sealed; Get gives the default then.
func (v *variable[M, T]) Stored() (bool, error) {
	if err := v.ready(); err != nil {
		return false, err
	}
	_, found, err := v.v.Lookup()
	return found, told(err)
}

// Watch tells changed of each change, by whoever, and once at the beginning, until Stop.
func (v *variable[M, T]) Watch(r Runner, changed Handler) (*Watching, error) {
	if err := v.ready(); err != nil {
		return nil, err
	}
	return watch(r, changed, handover.Each(v.v.Watch))
}

// Whole is a whole number on a namespace.
type Whole struct{ variable[int64, int64] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *WholeKey) Bind(ns *Namespace) (*Whole, error) {
	v := &Whole{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *WholeKey) In(b *Batch) (*Whole, error) {
	v := &Whole{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// made gives an object, or the error of making it alone.
func made[V any](v *V, err error) (*V, error) {
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Add adds n, without losing what others add, and gives the sum.
func (v *Whole) Add(n int64) (int64, error) { return number(&v.variable, n, pantry.Add[int64]) }

// Raise keeps the larger of what is stored and n, and gives it.
func (v *Whole) Raise(n int64) (int64, error) { return number(&v.variable, n, pantry.Raise[int64]) }

// Lower keeps the smaller of what is stored and n, and gives it.
func (v *Whole) Lower(n int64) (int64, error) { return number(&v.variable, n, pantry.Lower[int64]) }

func number[T pantry.Number](v *variable[T, T], n T, f func(pantry.Var[T], T) (T, error)) (T, error) {
	if err := v.ready(); err != nil {
		return 0, err
	}
	now, err := f(v.v, n)
	return now, told(err)
}

// Decimal is a number with a fraction on a namespace.
type Decimal struct{ variable[float64, float64] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *DecimalKey) Bind(ns *Namespace) (*Decimal, error) {
	v := &Decimal{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *DecimalKey) In(b *Batch) (*Decimal, error) {
	v := &Decimal{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Add adds x, and gives the sum.
func (v *Decimal) Add(x float64) (float64, error) {
	return number(&v.variable, x, pantry.Add[float64])
}

// Switch is what is true or false on a namespace.
type Switch struct{ variable[bool, bool] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *SwitchKey) Bind(ns *Namespace) (*Switch, error) {
	v := &Switch{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *SwitchKey) In(b *Batch) (*Switch, error) {
	v := &Switch{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Text is a text on a namespace.
type Text struct{ variable[string, string] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *TextKey) Bind(ns *Namespace) (*Text, error) {
	v := &Text{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *TextKey) In(b *Batch) (*Text, error) {
	v := &Text{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Bytes are bytes on a namespace.
type Bytes struct{ variable[[]byte, []byte] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *BytesKey) Bind(ns *Namespace) (*Bytes, error) {
	v := &Bytes{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *BytesKey) In(b *Batch) (*Bytes, error) {
	v := &Bytes{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Time is a moment on a namespace, in milliseconds since 1970 (UTC).
type Time struct{ variable[int64, time.Time] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *TimeKey) Bind(ns *Namespace) (*Time, error) {
	v := &Time{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *TimeKey) In(b *Batch) (*Time, error) {
	v := &Time{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Span is a duration on a namespace, in milliseconds.
type Span struct{ variable[int64, time.Duration] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *SpanKey) Bind(ns *Namespace) (*Span, error) {
	v := &Span{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *SpanKey) In(b *Batch) (*Span, error) {
	v := &Span{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// List is a list of texts on a namespace.
type List struct{ variable[*Texts, []string] }

// Bind gives the key's variable on a namespace that was opened with its keys.
func (k *ListKey) Bind(ns *Namespace) (*List, error) {
	v := &List{}
	return made(v, v.begin(&k.key, ns.local(), ns))
}

// In gives the key's variable in a commit.
func (k *ListKey) In(b *Batch) (*List, error) {
	v := &List{}
	return made(v, v.begin(&k.key, b.local(), b.of()))
}

// Append adds an item at the end; with unique, unless it is there.
func (v *List) Append(item string, unique bool) error {
	f := pantry.Append[[]string]
	if unique {
		f = pantry.AppendUnique[[]string]
	}
	return v.items(func(l pantry.Var[[]string]) error { _, err := f(l, item); return err })
}

// Remove removes the first item that is equal; with all, every one.
func (v *List) Remove(item string, all bool) error {
	f := pantry.Remove[[]string]
	if all {
		f = pantry.RemoveAll[[]string]
	}
	return v.items(func(l pantry.Var[[]string]) error { _, err := f(l, item); return err })
}

// Take takes an item out, and gives it: 0 is the first, -1 the last. The error is absent where
// there is none.
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
