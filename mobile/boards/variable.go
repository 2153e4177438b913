package boards

import (
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/mobile"
)

// A State is what is known of a value.
type State struct {
	Phase   string // unknown, current, sending, queued, stale, unreadable or refused
	Found   bool   // something is stored
	Mine    bool   // the newest change was made here
	Queued  int    // changes that wait to be sent
	Version int64
	Updated int64  // in milliseconds since 1970 (UTC), by the server's clock; 0 means unknown
	AsOf    int64  // when the server last confirmed it, in milliseconds since 1970 (UTC); 0 means never
	By      string // the author
	Trouble string // the reason of the phase, as CODE: SENTENCE, or ""
}

// A variable is a key on a board. M is the type in the other language.
type variable[M, T any] struct {
	v    board.Var[T]
	in   func(M) (T, error)
	out  func(T) M
	made bool
}

// on returns the variable of a key.
func on[M, T, K any, P interface {
	*K
	ForBoard(keys *mobile.Keys) (handover.Key[M, T], error)
}](b *Board, k P) (v variable[M, T], err error) {
	one, err := handed(b, k)
	if err != nil {
		return v, err
	}
	return variableOf(b, one)
}

// handed returns a key of the board's keys, as package mobile hands it over.
func handed[K, R any, P interface {
	*K
	ForBoard(keys *mobile.Keys) (R, error)
}](b *Board, k P) (one R, err error) {
	if err = b.ready(); err != nil {
		return one, err
	}
	if k == nil {
		return one, handover.Misuse("there is no key")
	}
	return k.ForBoard(b.keys)
}

func variableOf[M, T any](b *Board, k handover.Key[M, T]) (v variable[M, T], err error) {
	defer refused(&err)
	return variable[M, T]{board.On(b.b, k.Key), k.In, k.Out, true}, nil
}

// refused returns a panic of package board as misuse, for example about a sealed key, which no board accepts.
func refused(err *error) {
	switch p := recover().(type) {
	case nil:
	case error:
		*err = handover.Misuse("%w", p)
	default:
		*err = handover.Misuse("the key can't be on a board")
	}
}

func (v *variable[M, T]) ready() error {
	if v == nil || !v.made {
		return handover.Misuse("this variable was not made by a board")
	}
	return nil
}

// Get returns the last known value, or the default. It does not wait. Its only error is misuse.
func (v *variable[M, T]) Get() (x M, err error) {
	if err = v.ready(); err != nil {
		return x, err
	}
	return v.out(v.v.Get()), nil
}

// State returns what is known of the value, and does not wait.
func (v *variable[M, T]) State() (*State, error) {
	if err := v.ready(); err != nil {
		return nil, err
	}
	s := v.v.State()
	out := &State{Phase: s.Phase.String(), Found: s.Found, Mine: s.Mine, Queued: s.Queued, Version: s.Version, By: s.By}
	if !s.Updated.IsZero() {
		out.Updated = s.Updated.UnixMilli()
	}
	if !s.AsOf.IsZero() {
		out.AsOf = s.AsOf.UnixMilli()
	}
	if s.Err != nil {
		out.Trouble = coded(s.Err).Error()
	}
	return out, nil
}

// Waiting returns the value after all queued changes are stored. It does not wait.
func (v *variable[M, T]) Waiting() (x M, err error) {
	if err = v.ready(); err != nil {
		return x, err
	}
	return v.out(v.v.State().Waiting), nil
}

// Set stores a value. It replaces a stored one of any kind.
func (v *variable[M, T]) Set(c *Call, x M) error {
	return v.store(x, func(x T) error { return v.v.Set(c.context(), x) })
}

// Seed stores a value if nothing is stored.
func (v *variable[M, T]) Seed(c *Call, x M) error {
	return v.store(x, func(x T) error { return v.v.Seed(c.context(), x) })
}

func (v *variable[M, T]) store(x M, f func(T) error) error {
	if err := v.ready(); err != nil {
		return err
	}
	stored, err := v.in(x)
	if err == nil {
		err = f(stored)
	}
	return sent(err)
}

// Clear removes the stored value.
func (v *variable[M, T]) Clear(c *Call) error {
	if err := v.ready(); err != nil {
		return err
	}
	return sent(v.v.Clear(c.context()))
}

// Watch calls changed after each change of the value or of its state, and once at the beginning.
func (v *variable[M, T]) Watch(r mobile.Runner, changed mobile.Handler) (*mobile.Watching, error) {
	if err := v.ready(); err != nil {
		return nil, err
	}
	return mobile.WatchChanges(r, changed, handover.Each(v.v.Watch))
}
