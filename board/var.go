package board

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// A Phase says how far what a variable shows can be trusted.
type Phase uint8

// The phases. The zero Phase is Unknown.
const (
	Unknown    Phase = iota // pending: the server has not told yet; the default is shown
	Current                 // as the server told it last
	Sending                 // a change of this app is on its way
	Stale                   // the server did not answer the newest poll
	Unreadable              // what is stored can't be used; the default is shown
	Refused                 // the newest change of this app was refused; what was there before is shown
)

var phaseNames = [...]string{"unknown", "current", "sending", "stale", "unreadable", "refused"}

// String gives the phase's name, as "current".
func (p Phase) String() string {
	if int(p) < len(phaseNames) {
		return phaseNames[p]
	}
	return fmt.Sprintf("phase(%d)", uint8(p))
}

// A State is what is known of a variable at one moment. The zero State is
// pending: nothing is known.
type State[T any] struct {
	Value   T    // what is stored, else the key's default
	Found   bool // something is stored
	Phase   Phase
	Mine    bool // the newest change was by this Board
	Version int64
	Updated time.Time // by the server's clock
	By      string    // the app that changed it, as it calls itself
	Err     error     // with Unreadable, Refused and Stale: why
}

// A Var is a key that lives on a board. It is safe for concurrent use. The
// zero Var panics.
type Var[T any] struct {
	b *Board
	k pantry.Key[T]
	n *node
}

// On gives the variable that a key is on a board. The board asks for it from
// now on.
func On[T any](b *Board, k pantry.Key[T]) Var[T] {
	if b == nil {
		panic("board: On(" + k.Name() + ") takes a Board from Join, not nil; check the error of Join")
	}
	if k.Kind() == value.KindSealed {
		panic("board: the key " + k.Name() + " is sealed, which only the device that sealed it can read; keep it on the device")
	}
	return Var[T]{b, k, b.node(k.Name())}
}

// board gives the board, which every Var from On has.
func (v Var[T]) board() *Board {
	if v.b == nil {
		panic("board: a zero Var was used; get one from On")
	}
	return v.b
}

// Get gives what is stored as far as is known, and otherwise the key's
// default: before the first answer, where nothing is stored, and where what is
// stored can't be used. It never waits.
func (v Var[T]) Get() T { return v.State().Value }

// State tells what is known, and how well.
func (v Var[T]) State() State[T] {
	v.board()
	r := v.n.state.Load()
	s := State[T]{
		Value: v.k.Default(), Found: !r.entry.Value.IsZero(), Version: r.entry.Version,
		Updated: r.entry.Updated, By: r.entry.By, Mine: r.entry.From == v.b.from && r.entry.From != "",
	}
	switch {
	case r.sending > 0:
		s.Phase = Sending
	case r.refused != nil:
		s.Phase, s.Err = Refused, r.refused
	case !r.known:
		s.Phase = Unknown
	case r.stale:
		s.Phase, s.Err = Stale, v.b.Status().Err
	default:
		s.Phase = Current
	}
	if s.Found {
		x, err := v.k.Decode(r.entry.Value)
		if err == nil {
			s.Value = x
		} else {
			s.Phase, s.Err = Unreadable, v.unusable(r.entry, err)
		}
	}
	return s
}

func (v Var[T]) unusable(e Entry, err error) error {
	return v.b.fail("read", v.k.Name(), &Error{
		Index: -1, Code: "unreadable", Err: err,
		Sentence: fmt.Sprintf("%s is stored (by %s), which can't be used: %v", entry.Quoted(e.Value), orSomebody(e.By), err),
	})
}

func orSomebody(by string) string {
	if by == "" {
		return "somebody"
	}
	return by
}

// Lookup asks the server. It tells four answers apart: a value is stored;
// nothing is stored; what is stored is of another kind (pantry.ErrWrongKind)
// or against the key's rules (pantry.ErrInvalid); or there was no answer
// (ErrUnreachable). But for the first, x is the default.
func (v Var[T]) Lookup(ctx context.Context) (x T, found bool, err error) {
	e, found, err := v.board().Entry(ctx, v.k.Name())
	if err != nil || !found {
		return v.k.Default(), found, err
	}
	x, err = v.k.Decode(e.Value)
	if err != nil {
		return v.k.Default(), true, v.unusable(e, err)
	}
	return x, true, nil
}

// Set stores x on the board. When it returns nil, x is on the server's disk
// and shown here. An entry of another kind is left alone: pantry.ErrWrongKind.
// A value against the key's own rules is not sent: pantry.ErrInvalid. Without
// an answer it is ErrUnreachable, and the value may have been stored or not.
func (v Var[T]) Set(ctx context.Context, x T) error {
	b := v.board()
	val, err := v.k.Encode(x)
	if err != nil {
		return b.fail("set", v.k.Name(), err)
	}
	return v.sending(func() error {
		_, err := b.operate(ctx, "set", v.k.Name(), value.Op{Verb: value.Put, Operand: val})
		return err
	})
}

// sending makes a write, and lets the state show that it is on its way and
// how it ended.
func (v Var[T]) sending(write func() error) error {
	alter := func(f func(*remote)) {
		v.b.mu.Lock()
		defer v.b.mu.Unlock()
		v.b.alter(v.n, f)
	}
	alter(func(r *remote) { r.sending++; r.refused = nil })
	err := write()
	alter(func(r *remote) {
		r.sending--
		if err != nil && !errors.Is(err, ErrUnreachable) {
			r.refused = err
		}
	})
	return err
}

// Watch gives the state now, and then the newest after each change: one body
// for the first sight and for each later one. A slow body skips states, but
// never the last one. It ends when the body breaks off, ctx ends, or the board
// is closed. What can't be used is reported as a problem, once.
func (v Var[T]) Watch(ctx context.Context) iter.Seq[State[T]] {
	b := v.board()
	return func(yield func(State[T]) bool) {
		w := b.watch([]string{v.k.Name()}, nil)
		defer b.unwatch(w)
		var told int64
		for {
			s := v.State()
			if s.Phase == Unreadable && s.Version != told {
				told = s.Version
				v.b.problem(v.k.Name(), s.Err)
			}
			if ctx.Err() != nil || v.b.ctx.Err() != nil || !yield(s) {
				return
			}
			for len(v.b.changedFor(w)) == 0 {
				if !w.wait(ctx, b.ctx) {
					return
				}
			}
		}
	}
}

// Add adds n on the server, where additions of several phones at once are
// each counted, and gives what is stored now. An absent entry starts from the
// key's default; a result outside the key's Between is pantry.ErrInvalid and
// changes nothing; an entry of another kind is pantry.ErrWrongKind. Without an
// answer it is ErrUnreachable, and n may have been counted or not.
func Add[T pantry.Number](ctx context.Context, v Var[T], n T) (now T, err error) {
	now = v.Get()
	d := v.k.Declared()[0]
	add := value.Op{Verb: value.Add, Operand: number(n), Start: d.Default, Min: d.Min, Max: d.Max}
	err = v.sending(func() error {
		e, err := v.b.operate(ctx, "add", v.k.Name(), add)
		if err == nil {
			now, err = v.k.Decode(e.Value)
		}
		return err
	})
	return now, err
}

// number gives n as the value that a key of its type stores.
func number[T pantry.Number](n T) value.Value {
	if half := 0.5; T(half) != 0 { // it holds fractions
		return value.Float(float64(n))
	}
	return value.Int(int64(n))
}
