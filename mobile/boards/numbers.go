package boards

import (
	"context"
	"errors"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

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
	return now, coded(err)
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
