package boards

import (
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/mobile"
)

// ListVar is a list on a board.
type ListVar struct{ list boundList }

// A boundList is a list on a board with items of any kind: a *varOf[T].
type boundList interface {
	Get() (*mobile.Items, error)
	Waiting() (*mobile.Items, error)
	State() (*State, error)
	Set(c *Call, l *mobile.Items) error
	Seed(c *Call, l *mobile.Items) error
	Clear(c *Call) error
	Watch(r mobile.Runner, changed mobile.Handler) (*mobile.Watching, error)
	add(c *Call, l *mobile.Items, unique bool) error
	remove(c *Call, l *mobile.Items, all bool) error
	take(c *Call, at int) (*mobile.Items, error)
}

// ListVar returns the variable of a key on the board.
func (b *Board) ListVar(k *mobile.ListKey) (*ListVar, error) {
	one, err := handed(b, k)
	if err != nil {
		return nil, err
	}
	var list boundList
	switch k := one.(type) {
	case handover.Key[*mobile.Items, []int64]:
		list, err = listOn(b, k)
	case handover.Key[*mobile.Items, []float64]:
		list, err = listOn(b, k)
	case handover.Key[*mobile.Items, []bool]:
		list, err = listOn(b, k)
	case handover.Key[*mobile.Items, []string]:
		list, err = listOn(b, k)
	case handover.Key[*mobile.Items, [][]byte]:
		list, err = listOn(b, k)
	case handover.Key[*mobile.Items, []time.Time]:
		list, err = listOn(b, k)
	case handover.Key[*mobile.Items, []time.Duration]:
		list, err = listOn(b, k)
	}
	return made(&ListVar{list}, err)
}

func listOn[T any](b *Board, k handover.Key[*mobile.Items, []T]) (*varOf[T], error) {
	v, err := variableOf(b, k)
	return &varOf[T]{v}, err
}

// do calls a function with the list.
func (v *ListVar) do(f func(boundList) error) error {
	if v == nil || v.list == nil {
		return handover.Misuse("this variable was not made by a board")
	}
	return f(v.list)
}

// Get returns the items that are known, or none. It does not wait. Its only error is misuse.
func (v *ListVar) Get() (l *mobile.Items, err error) {
	err = v.do(func(b boundList) (err error) { l, err = b.Get(); return err })
	return l, err
}

// Waiting returns the list after all queued changes are stored. It does not wait.
func (v *ListVar) Waiting() (l *mobile.Items, err error) {
	err = v.do(func(b boundList) (err error) { l, err = b.Waiting(); return err })
	return l, err
}

// State returns what is known of the list, and does not wait.
func (v *ListVar) State() (s *State, err error) {
	err = v.do(func(b boundList) (err error) { s, err = b.State(); return err })
	return s, err
}

// Set stores a list. It replaces a stored one of any kind, and what others append meanwhile: Append and
// Remove don't.
func (v *ListVar) Set(c *Call, l *mobile.Items) error {
	return v.do(func(b boundList) error { return b.Set(c, l) })
}

// Seed stores a list if nothing is stored.
func (v *ListVar) Seed(c *Call, l *mobile.Items) error {
	return v.do(func(b boundList) error { return b.Seed(c, l) })
}

// Clear removes the stored list.
func (v *ListVar) Clear(c *Call) error { return v.do(func(b boundList) error { return b.Clear(c) }) }

// Watch calls changed after each change of the list or of its state, and once at the beginning.
func (v *ListVar) Watch(r mobile.Runner, changed mobile.Handler) (w *mobile.Watching, err error) {
	err = v.do(func(b boundList) (err error) { w, err = b.Watch(r, changed); return err })
	return w, err
}

// Append adds items at the end; with unique, only those that the list does not have.
func (v *ListVar) Append(c *Call, items *mobile.Items, unique bool) error {
	return v.do(func(b boundList) error { return b.add(c, items, unique) })
}

// Remove removes the first item that is equal to each of items; with all, every equal item.
func (v *ListVar) Remove(c *Call, items *mobile.Items, all bool) error {
	return v.do(func(b boundList) error { return b.remove(c, items, all) })
}

// Take removes an item on the server and returns it, as a list of one: 0 is the first, -1 the last. Each
// caller gets another item. If there is none, the error is absent. It can't be queued: without a network
// the error is unreachable.
func (v *ListVar) Take(c *Call, at int) (item *mobile.Items, err error) {
	err = v.do(func(b boundList) (err error) { item, err = b.take(c, at); return err })
	return item, err
}

// A varOf is a list of T on a board.
type varOf[T any] struct{ variable[*mobile.Items, []T] }

func (v *varOf[T]) add(c *Call, items *mobile.Items, unique bool) error {
	f := board.Append[[]T]
	if unique {
		f = board.AppendUnique[[]T]
	}
	return v.store(items, func(all []T) error { _, err := f(c.context(), v.v, all...); return err })
}

func (v *varOf[T]) remove(c *Call, items *mobile.Items, all bool) error {
	f := board.Remove[[]T]
	if all {
		f = board.RemoveAll[[]T]
	}
	return v.store(items, func(some []T) error { _, err := f(c.context(), v.v, some...); return err })
}

func (v *varOf[T]) take(c *Call, at int) (*mobile.Items, error) {
	one, found, err := board.Take(c.context(), v.v, at)
	switch {
	case err != nil:
		return nil, coded(err)
	case !found:
		return nil, handover.Failure("absent", "the list has no item at that position", pantry.ErrAbsent)
	}
	return v.out([]T{one}), nil
}
