package shared

import (
	"context"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/mobile"
)

// Whole is a whole number on a board.
type Whole struct{ variable[int64, int64] }

// Whole gives the variable of a key here.
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

// Add adds n on the server, so that nobody's addition is lost, and gives the sum.
func (v *Whole) Add(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Add[int64])
}

// Raise keeps the larger of what is stored and n, and gives it.
func (v *Whole) Raise(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Raise[int64])
}

// Lower keeps the smaller of what is stored and n, and gives it.
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

// Decimal is a number with a fraction on a board.
type Decimal struct{ variable[float64, float64] }

// Decimal gives the variable of a key here.
func (b *Board) Decimal(k *mobile.DecimalKey) (*Decimal, error) {
	v, err := on[float64, float64](b, k)
	return made(&Decimal{v}, err)
}

// Add adds x on the server, and gives the sum.
func (v *Decimal) Add(c *Call, x float64) (float64, error) {
	return number(c, &v.variable, x, board.Add[float64])
}

// Switch is what is true or false on a board.
type Switch struct{ variable[bool, bool] }

// Switch gives the variable of a key here.
func (b *Board) Switch(k *mobile.SwitchKey) (*Switch, error) {
	v, err := on[bool, bool](b, k)
	return made(&Switch{v}, err)
}

// Text is a text on a board, or one of a few.
type Text struct{ variable[string, string] }

// Text gives the variable of a key here. A sealed one is misuse.
func (b *Board) Text(k *mobile.TextKey) (*Text, error) {
	v, err := on[string, string](b, k)
	return made(&Text{v}, err)
}

// Bytes are bytes on a board.
type Bytes struct{ variable[[]byte, []byte] }

// Bytes gives the variable of a key here.
func (b *Board) Bytes(k *mobile.BytesKey) (*Bytes, error) {
	v, err := on[[]byte, []byte](b, k)
	return made(&Bytes{v}, err)
}

// Time is a moment on a board, in milliseconds since 1970 (UTC).
type Time struct{ variable[int64, time.Time] }

// Time gives the variable of a key here.
func (b *Board) Time(k *mobile.TimeKey) (*Time, error) {
	v, err := on[int64, time.Time](b, k)
	return made(&Time{v}, err)
}

// Span is a duration on a board, in milliseconds.
type Span struct{ variable[int64, time.Duration] }

// Span gives the variable of a key here.
func (b *Board) Span(k *mobile.SpanKey) (*Span, error) {
	v, err := on[int64, time.Duration](b, k)
	return made(&Span{v}, err)
}

// List is a list of texts on a board.
type List struct {
	variable[*mobile.Texts, []string]
}

// List gives the variable of a key here.
func (b *Board) List(k *mobile.ListKey) (*List, error) {
	v, err := on[*mobile.Texts, []string](b, k)
	return made(&List{v}, err)
}

// Append adds an item at the end; with unique, unless it is there.
func (v *List) Append(c *Call, item string, unique bool) error {
	f := board.Append[[]string]
	if unique {
		f = board.AppendUnique[[]string]
	}
	return v.items(func(l board.Var[[]string]) error { _, err := f(c.context(), l, item); return err })
}

// Remove removes the first item that is equal; with all, every one.
func (v *List) Remove(c *Call, item string, all bool) error {
	f := board.Remove[[]string]
	if all {
		f = board.RemoveAll[[]string]
	}
	return v.items(func(l board.Var[[]string]) error { _, err := f(c.context(), l, item); return err })
}

// Take takes an item out, for nobody else, and gives it: 0 is the first, -1 the last. The error
// is absent where there is none.
func (v *List) Take(c *Call, at int) (item string, err error) {
	found := false
	err = v.items(func(l board.Var[[]string]) (err error) {
		item, found, err = board.Take(c.context(), l, at)
		return err
	})
	if err == nil && !found {
		err = handover.Failure("absent", "there is nothing at that place of the list", pantry.ErrAbsent)
	}
	return item, err
}

func (v *List) items(f func(board.Var[[]string]) error) error {
	if err := v.ready(); err != nil {
		return err
	}
	return told(f(v.v))
}
