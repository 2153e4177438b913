package board

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync/atomic"
	"time"
	"unsafe"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/slot"
	"github.com/small-pantry/pantry/value"
)

// A Phase says how far what a variable shows can be trusted.
type Phase uint8

// The phases. The zero Phase is Unknown.
const (
	Unknown    Phase = iota // pending: the server has not answered yet; the default is shown
	Current                 // as the server sent it last
	Sending                 // a change of this app is being sent; the value before it is shown
	Queued                  // a change of this app waits to be sent; the value before it is shown
	Stale                   // the server can't be reached, or was not yet in this launch; the last known value is shown
	Unreadable              // the stored value can't be used; the default is shown
	Refused                 // the newest change of this app was refused; the stored value is shown
)

var phaseNames = [...]string{"unknown", "current", "sending", "queued", "stale", "unreadable", "refused"}

// String returns the phase's name, such as "current".
func (p Phase) String() string {
	if int(p) < len(phaseNames) {
		return phaseNames[p]
	}
	return fmt.Sprintf("phase(%d)", uint8(p))
}

// A State is what is known of a variable at one moment. The zero State is pending: nothing is
// known.
type State[T any] struct {
	Value   T    // the stored value, or the key's default
	Found   bool // something is stored
	Phase   Phase
	Mine    bool // the newest change was made by this Board
	Queued  int  // changes that wait to be sent
	Waiting T    // the value after all of them are stored; Value if there are none
	Version int64
	Updated time.Time // by the server's clock
	AsOf    time.Time // when the server last confirmed this, by this device's clock; zero means never
	By      string    // who changed it: the label of the link, and the name of the app
	Err     error     // with Unreadable and Refused, why; otherwise why the server can't be reached
}

// stateOf returns a state whose values are *T, or nil, as one of T.
func stateOf[T any](s State[any]) State[T] {
	return State[T]{keydef.Value[T](s.Value), s.Found, s.Phase, s.Mine, s.Queued, keydef.Value[T](s.Waiting), s.Version, s.Updated, s.AsOf, s.By, s.Err}
}

// A Var is a key on a board. It is small, and safe for concurrent use. The zero Var panics.
type Var[T any] struct {
	_ [0]*T // so that a Var can't be converted to one of another type
	x *binding
	s *slot.Slot // of x; nil for a zero Var
}

// A binding is what the copies of a Var share. It does not depend on the Var's type T: where a value is
// an any, it is a *T. The slot and cache serve the row of Get on a board in docs/benchmarks.md.
type binding struct {
	slot.Slot
	b     *Board
	k     keydef.Definition
	name  string // of k
	n     *node
	bad   error // why the name can't be used; nil if it can
	cache atomic.Pointer[reading]
}

// A reading is what is known of a name, decoded by its key. It is immutable.
type reading struct {
	r   *remote
	x   any // the default if nothing usable is stored
	err error
}

// On binds a key to a board. The board requests its value from now on.
func On[T any](b *Board, k pantry.Key[T]) Var[T] {
	b.mayHave(k)
	n := b.view.bind(k.Name())
	b.poller.start()
	d := keydef.Of(k)
	b.setCheck(n, d)
	return variable[T](newBinding(b, d, n))
}

// setCheck makes the outbox check the operations on a name by its key.
func (b *Board) setCheck(n *node, k keydef.Definition) {
	if k.Checks() {
		b.view.setCheck(n, func(v value.Value) error { _, err := k.Kept(v); return err })
	}
}

// passes returns the error of the Check of a name's key for a value.
func (b *Board) passes(name string, v value.Value) error {
	check := b.view.checkOf(name)
	if check == nil || v.IsZero() {
		return nil
	}
	return check(v)
}

func newBinding(b *Board, k keydef.Definition, n *node) *binding {
	x := &binding{b: b, k: k, name: k.Name(), n: n}
	x.Find = func() unsafe.Pointer {
		c := x.read()
		if k.Copies() {
			return slot.Pointer(k.Copy(c.x))
		}
		n.keep(&x.Slot, c.r, slot.Pointer(c.x)) // a reading never changes
		return slot.Pointer(c.x)
	}
	return x
}

func variable[T any](x *binding) Var[T] { return Var[T]{x: x, s: &x.Slot} }

// mayHave panics for a key that can't be on the board.
func (b *Board) mayHave(k pantry.AnyKey) {
	if b == nil {
		panic("board: On(" + k.Name() + ") takes a Board from Join, not nil; check the error of Join")
	}
	if k.Kind() == value.KindSealed {
		panic("board: the key " + k.Name() + " is sealed, which only the device that sealed it can read; keep it on the device")
	}
	for _, d := range k.Declared() {
		about := d.Name
		if d.Family {
			about += "/"
		}
		if !b.isAbout(about) {
			panic("board: the key " + d.Name + " is outside of what Only says that this app is about: " + strings.Join(b.opts.only, ", "))
		}
		// The server reports a declared secret.
		known := slices.ContainsFunc(b.opts.declare, func(one pantry.AnyKey) bool { return one.Name() == k.Name() })
		b.report.firstUse(k, entry.Declared{Key: entry.Key(d)}, known)
	}
}

// isAbout reports whether Only allows a name, or a prefix.
func (b *Board) isAbout(name string) bool {
	for _, p := range b.everything() {
		if strings.HasPrefix(name, p) {
			return true
		}
	}
	return false
}

func (v Var[T]) binding() *binding {
	if v.x == nil {
		panic("board: a zero Var was used; get one from On")
	}
	return v.x
}

// read returns what is known.
func (x *binding) read() *reading {
	r := x.n.state.Load()
	if c := x.cache.Load(); c != nil && c.r == r {
		return c
	}
	c := &reading{r: r, x: x.k.Default()}
	if !r.entry.Value.IsZero() {
		if y, err := x.k.Decode(r.entry.Value); err == nil {
			c.x = y
		} else {
			c.err = x.unusable(r.entry, err)
		}
	}
	x.cache.Store(c)
	return c
}

// Get returns the stored value as far as is known, and otherwise the key's default: before the
// first answer, if nothing is stored, and if the stored value can't be used. It never waits. The
// value belongs to the caller.
func (v Var[T]) Get() T { return *(*T)(v.s.Load()) }

// State returns what is known, and how far it can be trusted.
func (v Var[T]) State() State[T] { return stateOf[T](v.binding().state()) }

func (x *binding) state() State[any] {
	c := x.read()
	s := State[any]{Value: x.k.Copy(c.x)}
	describe(x.b, c.r, &s)
	s.Waiting = x.waiting(c)
	if c.err != nil {
		s.Phase, s.Err = Unreadable, c.err
	}
	return s
}

// waiting returns the value after all queued changes are stored.
func (x *binding) waiting(c *reading) any {
	if c.r.queued > 0 && x.b.outbox != nil {
		if v := x.b.outbox.after(x.b, x.n.name, c.r.entry.Value); v.IsZero() {
			return x.k.Default()
		} else if y, err := x.k.Decode(v); err == nil {
			return y
		}
	}
	return x.k.Copy(c.x)
}

// describe returns how far what is known can be trusted.
func describe(b *Board, r *remote, s *State[any]) {
	s.Found, s.Version, s.Queued = !r.entry.Value.IsZero(), r.entry.Version, r.queued
	s.Updated, s.By, s.Mine = r.entry.Updated, r.entry.By, r.entry.From == b.view.from && r.entry.From != ""
	s.Err = r.away
	if r.known {
		s.AsOf = b.view.confirmed()
	}
	switch {
	case r.sending > 0:
		s.Phase = Sending
	case r.queued > 0:
		s.Phase = Queued
	case r.refused != nil:
		s.Phase, s.Err = Refused, r.refused
	case !r.known:
		s.Phase = Unknown
	case r.away != nil || r.old:
		s.Phase = Stale
	default:
		s.Phase = Current
	}
}

func (x *binding) unusable(e entry.Entry, err error) error { return x.b.unusable(e, err) }

// unusable returns the error for a stored value that its key can't use.
func (b *Board) unusable(e entry.Entry, err error) error {
	return b.conn.fail("read", e.Name, &Error{
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

// Lookup asks the server. It distinguishes four results: a value is stored; nothing is stored; the
// stored value is of another kind (pantry.ErrWrongKind) or breaks the key's rules
// (pantry.ErrInvalid); or there was no answer (ErrUnreachable). Except for the first, x is the
// default.
func (v Var[T]) Lookup(ctx context.Context) (x T, found bool, err error) {
	at, found, err := v.binding().lookup(ctx)
	return keydef.Value[T](at), found, err
}

func (x *binding) lookup(ctx context.Context) (_ any, found bool, err error) {
	if x.bad != nil {
		return x.k.Default(), false, x.bad
	}
	e, found, err := x.b.fetch(ctx, x.name)
	if err != nil || !found {
		return x.k.Default(), found, err
	}
	y, err := x.k.Decode(e.Value)
	if err != nil {
		return x.k.Default(), true, x.unusable(e, err)
	}
	return y, true, nil
}

// Watch yields the state now, and then the newest after each change: one body can draw first and
// update later. A slow body skips states, but never the last one. It ends when the body breaks, ctx
// ends, or the board is closed. A value that can't be used is reported as a problem, once.
func (v Var[T]) Watch(ctx context.Context) iter.Seq[State[T]] {
	states := v.binding().watch(ctx)
	return func(yield func(State[T]) bool) {
		states(func(s State[any]) bool { return yield(stateOf[T](s)) })
	}
}

func (x *binding) watch(ctx context.Context) iter.Seq[State[any]] {
	return func(yield func(State[any]) bool) {
		var reported int64
		for range x.b.changes(ctx, []string{x.name}, nil) {
			s := x.state()
			if s.Phase == Unreadable && s.Version != reported {
				reported = s.Version
				x.b.report.problem(x.name, s.Err)
			}
			if !yield(s) {
				return
			}
		}
	}
}
