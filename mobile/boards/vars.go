package boards

import (
	"context"
	"errors"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/mobile"
)

// IntVar is an integer on a board.
type IntVar struct{ variable[int64, int64] }

// IntVar returns the variable of a key on the board.
func (b *Board) IntVar(k *mobile.IntKey) (*IntVar, error) {
	v, err := on[int64, int64](b, k)
	return made(&IntVar{v}, err)
}

func made[V any](v *V, err error) (*V, error) {
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Add adds n on the server and returns the sum. Additions of several phones all count. Without a
// network, with Options.Offline, it counts later, and the sum is that of Waiting.
func (v *IntVar) Add(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Add[int64])
}

// Raise stores n if it is larger than the stored value, and returns what is stored.
func (v *IntVar) Raise(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Raise[int64])
}

// Lower stores n if it is smaller than the stored value, and returns what is stored.
func (v *IntVar) Lower(c *Call, n int64) (int64, error) {
	return number(c, &v.variable, n, board.Lower[int64])
}

func number[T pantry.Number](c *Call, v *variable[T, T], n T, f func(context.Context, board.Var[T], T) (T, error)) (T, error) {
	if err := v.ready(); err != nil {
		return 0, err
	}
	now, err := f(c.context(), v.v, n)
	if errors.Is(err, board.ErrQueued) {
		return v.v.State().Waiting, nil
	}
	return now, told(err)
}

// FloatVar is a float on a board.
type FloatVar struct{ variable[float64, float64] }

// FloatVar returns the variable of a key on the board.
func (b *Board) FloatVar(k *mobile.FloatKey) (*FloatVar, error) {
	v, err := on[float64, float64](b, k)
	return made(&FloatVar{v}, err)
}

// Add adds x on the server and returns the sum.
func (v *FloatVar) Add(c *Call, x float64) (float64, error) {
	return number(c, &v.variable, x, board.Add[float64])
}

// Raise stores x if it is larger than the stored value, and returns what is stored.
func (v *FloatVar) Raise(c *Call, x float64) (float64, error) {
	return number(c, &v.variable, x, board.Raise[float64])
}

// Lower stores x if it is smaller than the stored value, and returns what is stored.
func (v *FloatVar) Lower(c *Call, x float64) (float64, error) {
	return number(c, &v.variable, x, board.Lower[float64])
}

// BoolVar is a boolean on a board.
type BoolVar struct{ variable[bool, bool] }

// BoolVar returns the variable of a key on the board.
func (b *Board) BoolVar(k *mobile.BoolKey) (*BoolVar, error) {
	v, err := on[bool, bool](b, k)
	return made(&BoolVar{v}, err)
}

// TextVar is a text on a board, or one of several choices.
type TextVar struct{ variable[string, string] }

// TextVar returns the variable of a key on the board. A sealed key is misuse.
func (b *Board) TextVar(k *mobile.TextKey) (*TextVar, error) {
	v, err := on[string, string](b, k)
	return made(&TextVar{v}, err)
}

// BytesVar are bytes on a board.
type BytesVar struct{ variable[[]byte, []byte] }

// BytesVar returns the variable of a key on the board.
func (b *Board) BytesVar(k *mobile.BytesKey) (*BytesVar, error) {
	v, err := on[[]byte, []byte](b, k)
	return made(&BytesVar{v}, err)
}

// TimeVar is a moment on a board, in milliseconds since 1970 (UTC).
type TimeVar struct{ variable[int64, time.Time] }

// TimeVar returns the variable of a key on the board.
func (b *Board) TimeVar(k *mobile.TimeKey) (*TimeVar, error) {
	v, err := on[int64, time.Time](b, k)
	return made(&TimeVar{v}, err)
}

// DurationVar is a duration on a board, in milliseconds.
type DurationVar struct{ variable[int64, time.Duration] }

// DurationVar returns the variable of a key on the board.
func (b *Board) DurationVar(k *mobile.DurationKey) (*DurationVar, error) {
	v, err := on[int64, time.Duration](b, k)
	return made(&DurationVar{v}, err)
}
