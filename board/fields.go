package board

import (
	"context"
	"errors"
	"iter"
	"maps"
	"slices"
	"sync/atomic"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// A FieldsVar is a struct on a board. Each field is an entry. It is small, and safe for concurrent
// use. The zero FieldsVar panics.
type FieldsVar[T any] struct{ x *fieldsBinding[T] }

type fieldsBinding[T any] struct {
	b     *Board
	k     pantry.FieldsKey[T]
	names []string
	nodes []*node
	cache atomic.Pointer[fieldsReading[T]]
}

type fieldsReading[T any] struct {
	remotes []*remote
	x       T
	found   bool
	errs    map[string]error
}

// OnFields binds the struct of a key to a board. The board requests its fields from now on.
func OnFields[T any](b *Board, k pantry.FieldsKey[T]) FieldsVar[T] {
	b.mayHave(k)
	x := &fieldsBinding[T]{b: b, k: k, names: k.Names()}
	for _, name := range x.names {
		x.nodes = append(x.nodes, b.view.bind(name))
	}
	b.poller.start()
	return FieldsVar[T]{x}
}

func (v FieldsVar[T]) binding() *fieldsBinding[T] {
	if v.x == nil {
		panic("board: a zero FieldsVar was used; get one from OnFields")
	}
	return v.x
}

func (x *fieldsBinding[T]) read() *fieldsReading[T] {
	now := x.b.view.states(x.nodes)
	if c := x.cache.Load(); c != nil && slices.Equal(c.remotes, now) {
		return c
	}
	c := &fieldsReading[T]{remotes: now}
	c.x, c.found, c.errs = x.k.Decode(func(name string) value.Value { return now[slices.Index(x.names, name)].entry.Value })
	x.cache.Store(c)
	return c
}

// waiting returns the struct after all queued changes are stored.
func (x *fieldsBinding[T]) waiting(c *fieldsReading[T], queued int) T {
	if queued == 0 || x.b.outbox == nil {
		return x.k.Copy(c.x)
	}
	y, _, _ := x.k.Decode(func(name string) value.Value {
		return x.b.outbox.after(x.b, name, c.remotes[slices.Index(x.names, name)].entry.Value)
	})
	return y
}

// Get returns the struct as far as is known, with the default of each field that is absent or can't
// be used. It never waits.
func (v FieldsVar[T]) Get() T {
	x := v.binding()
	return x.k.Copy(x.read().x)
}

// State returns what is known. Its Phase is that of the least certain field; Version, Updated and
// By are those of the field that changed last.
func (v FieldsVar[T]) State() State[T] {
	x := v.binding()
	c := x.read()
	s := State[T]{Phase: Current}
	for i, r := range c.remotes {
		var one State[any]
		describe(x.b, r, &one)
		if err := c.errs[x.names[i]]; err != nil {
			one.Phase, one.Err = Unreadable, x.b.unusable(r.entry, err)
		}
		if worse(one.Phase, s.Phase) {
			s.Phase, s.Err = one.Phase, one.Err
		}
		s.Queued = max(s.Queued, one.Queued)
		if one.Version > s.Version {
			s.Version, s.Updated, s.By, s.Mine = one.Version, one.Updated, one.By, one.Mine
		}
	}
	s.Value, s.Found = x.k.Copy(c.x), c.found
	s.Waiting = x.waiting(c, s.Queued)
	return s
}

// worse reports whether the first of two phases is less certain than the second.
func worse(a, b Phase) bool {
	rank := func(p Phase) int {
		return slices.Index([]Phase{Current, Stale, Queued, Sending, Unknown, Refused, Unreadable}, p)
	}
	return rank(a) > rank(b)
}

// Set stores the fields of x that differ from what is known, in one commit. The errors are those of
// Var.Set, and pantry.ErrInvalid for a State that is pending.
func (v FieldsVar[T]) Set(ctx context.Context, x T) error {
	_, err := v.change(ctx, "set", false, func(T) (T, error) { return x, nil })
	return err
}

// Update stores the fields that f changes, in one commit, if they have not changed since;
// otherwise f runs again. The errors are those of Var.Update.
func (v FieldsVar[T]) Update(ctx context.Context, f func(old T) (T, error)) (now T, err error) {
	at := v.binding()
	for try := 0; ; try++ {
		if now, err = v.change(ctx, "update", true, f); !errors.Is(err, pantry.ErrConflict) || try == mostTries-1 {
			return now, err
		}
		if _, _, bad := at.b.poller.pollOnce(ctx, byPoll{}, 0); bad != nil {
			return v.Get(), bad
		}
	}
}

func (v FieldsVar[T]) change(ctx context.Context, op string, careful bool, f func(T) (T, error)) (now T, err error) {
	x := v.binding()
	c := x.read()
	for i, r := range c.remotes {
		if !r.known {
			return v.Get(), x.b.conn.fail(op, x.names[i], errPending(x.names[i]))
		}
	}
	next, err := f(x.k.Copy(c.x))
	if err != nil {
		return v.Get(), err
	}
	before, bad := x.k.Encode(c.x)
	after, err := x.k.Encode(next)
	if err != nil {
		return v.Get(), x.b.conn.fail(op, "", err)
	}
	var edits []entry.Edit
	for i, name := range x.names {
		e := c.remotes[i].entry
		if bad == nil && value.Equal(before[name], after[name]) {
			continue
		}
		if err := c.errs[name]; err != nil && careful {
			return v.Get(), x.b.unusable(e, err)
		}
		edit := entry.Edit{Name: name, Op: value.Op{Verb: value.Put, Operand: after[name], Kind: after[name].Kind()}}
		if careful {
			version := e.Version
			if e.Value.IsZero() {
				version = 0
			}
			edit = edit.If(version, e.Updated)
		}
		edits = append(edits, edit)
	}
	if len(edits) > 0 {
		if careful {
			_, err = x.b.writeNow(ctx, op, edits)
		} else {
			_, err = x.b.write(ctx, op, edits)
		}
	}
	return v.Get(), err
}

// Clear removes all stored fields, so that Get returns the defaults.
func (v FieldsVar[T]) Clear(ctx context.Context) error {
	x := v.binding()
	var edits []entry.Edit
	for i, r := range x.read().remotes {
		if !r.entry.Value.IsZero() {
			edits = append(edits, entry.Edit{Name: x.names[i], Op: value.Op{Verb: value.Drop}})
		}
	}
	if len(edits) == 0 {
		return nil
	}
	_, err := x.b.write(ctx, "clear", edits)
	return err
}

// Watch yields the state now, and then the newest after each change: see Var.Watch.
func (v FieldsVar[T]) Watch(ctx context.Context) iter.Seq[State[T]] {
	x := v.binding()
	return func(yield func(State[T]) bool) {
		reported := map[string]int64{}
		for range x.b.changes(ctx, x.names, nil) {
			c := x.read()
			for _, name := range slices.Sorted(maps.Keys(c.errs)) {
				if e := c.remotes[slices.Index(x.names, name)].entry; reported[name] != e.Version {
					reported[name] = e.Version
					x.b.report.problem(name, x.b.unusable(e, c.errs[name]))
				}
			}
			if !yield(v.State()) {
				return
			}
		}
	}
}
