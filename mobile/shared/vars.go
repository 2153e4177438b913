package shared

import (
	"context"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/mobile"
)

// Whole is an integer on a board.
type Whole struct{ variable[int64, int64] }

// Whole returns the variable of a key on the board.
func (b *Board) Whole(k *mobile.WholeKey) (*Whole, error) {
	v, err := on[int64, int64](b, k)
	return made(&Whole{v}, err)
}

func made[V any](v *V, err error) (*V, error) {
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Add adds n on the server and returns the sum. Additions of several phones all count.
func (v *Whole) Add(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Add[int64])
}

// Raise stores n if it is larger than the stored value, and returns what is stored.
func (v *Whole) Raise(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Raise[int64])
}

// Lower stores n if it is smaller than the stored value, and returns what is stored.
func (v *Whole) Lower(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Lower[int64])
}

func number[T pantry.Number](c *Call, v *variable[T, T], n T, f func(context.Context, board.Var[T], T) (T, error)) (T, error) {
	if err := v.ready(); err != nil {
		return 0, err
	}
	now, err := f(c.context(), v.v, n)
	return now, told(err)
}

// Decimal is a float on a board.
type Decimal struct{ variable[float64, float64] }

// Decimal returns the variable of a key on the board.
func (b *Board) Decimal(k *mobile.DecimalKey) (*Decimal, error) {
	v, err := on[float64, float64](b, k)
	return made(&Decimal{v}, err)
}

// Add adds x on the server and returns the sum.
func (v *Decimal) Add(c *Call, x float64) (float64, error) {
	return number(c, &v.variable, x, board.Add[float64])
}

// Switch is a boolean on a board.
type Switch struct{ variable[bool, bool] }

// Switch returns the variable of a key on the board.
func (b *Board) Switch(k *mobile.SwitchKey) (*Switch, error) {
	v, err := on[bool, bool](b, k)
	return made(&Switch{v}, err)
}

// Text is a text on a board, or one of several choices.
type Text struct{ variable[string, string] }

// Text returns the variable of a key on the board. A sealed key is misuse.
func (b *Board) Text(k *mobile.TextKey) (*Text, error) {
	v, err := on[string, string](b, k)
	return made(&Text{v}, err)
}

// Bytes are bytes on a board.
type Bytes struct{ variable[[]byte, []byte] }

// Bytes returns the variable of a key on the board.
func (b *Board) Bytes(k *mobile.BytesKey) (*Bytes, error) {
	v, err := on[[]byte, []byte](b, k)
	return made(&Bytes{v}, err)
}

// Time is a moment on a board, in milliseconds since 1970 (UTC).
type Time struct{ variable[int64, time.Time] }

// Time returns the variable of a key on the board.
func (b *Board) Time(k *mobile.TimeKey) (*Time, error) {
	v, err := on[int64, time.Time](b, k)
	return made(&Time{v}, err)
}

// Span is a duration on a board, in milliseconds.
type Span struct{ variable[int64, time.Duration] }

// Span returns the variable of a key on the board.
func (b *Board) Span(k *mobile.SpanKey) (*Span, error) {
	v, err := on[int64, time.Duration](b, k)
	return made(&Span{v}, err)
}

// List is a list of texts on a board.
type List struct {
	variable[*mobile.Texts, []string]
}

// List returns the variable of a key on the board.
func (b *Board) List(k *mobile.ListKey) (*List, error) {
	v, err := on[*mobile.Texts, []string](b, k)
	return made(&List{v}, err)
}

// Append adds an item at the end; with unique, only if the list does not have it.
func (v *List) Append(c *Call, item string, unique bool) error {
	f := board.Append[[]string]
	if unique {
		f = board.AppendUnique[[]string]
	}
	return v.items(func(l board.Var[[]string]) error { _, err := f(c.context(), l, item); return err })
}

// Remove removes the first equal item; with all, every equal item.
func (v *List) Remove(c *Call, item string, all bool) error {
	f := board.Remove[[]string]
	if all {
		f = board.RemoveAll[[]string]
	}
	return v.items(func(l board.Var[[]string]) error { _, err := f(c.context(), l, item); return err })
}

// Take removes an item on the server and returns it: 0 is the first, -1 the last. Each caller gets
// another item. If there is none, the error is absent.
func (v *List) Take(c *Call, at int) (item string, err error) {
	found := false
	err = v.items(func(l board.Var[[]string]) (err error) {
		item, found, err = board.Take(c.context(), l, at)
		return err
	})
	if err == nil && !found {
		err = handover.Failure("absent", "the list has no item at that position", pantry.ErrAbsent)
	}
	return item, err
}

func (v *List) items(f func(board.Var[[]string]) error) error {
	if err := v.ready(); err != nil {
		return err
	}
	return told(f(v.v))
}
