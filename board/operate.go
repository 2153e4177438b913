package board

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// Set stores x on the board. It replaces a value of any kind, unless an app has declared another
// kind. When it returns nil, x is on the server's disk and is shown here. A value that breaks the
// key's own rules is not sent: pantry.ErrInvalid. Members of a stored struct that T does not have
// are kept. Without an answer the error is ErrUnreachable, and the value may have been stored or
// not; with Offline it is ErrQueued, and the value will be sent. Other errors are those of Commit.
func (v Var[T]) Set(ctx context.Context, x T) error { return v.binding().set(ctx, &x) }

func (x *binding) set(ctx context.Context, y any) error {
	val, err := x.k.Encode(y)
	if err != nil {
		return x.refuse("set", err)
	}
	if x.k.Merges() {
		return x.merge(ctx, val)
	}
	_, err = x.b.write(ctx, "set", []entry.Edit{x.put(val)})
	return err
}

// put makes the entry hold val.
func (x *binding) put(val value.Value) entry.Edit {
	return x.op(value.Op{Verb: value.Put, Operand: val, Kind: val.Kind()})
}

// op returns an operation on the entry.
func (x *binding) op(op value.Op) entry.Edit {
	return entry.Edit{Name: x.name, Op: op, Bad: x.bad}
}

// refuse shows that a change was refused before it was sent.
func (x *binding) refuse(op string, err error) error {
	err = x.b.conn.fail(op, x.name, err)
	x.b.view.alter(x.n, func(r *remote) { r.refused = err })
	return err
}

// merge stores a struct with the stored members beyond its fields, as far as they are known.
func (x *binding) merge(ctx context.Context, val value.Value) error {
	have := x.n.state.Load()
	if !have.known {
		e, _, err := x.b.fetch(ctx, x.name)
		if err != nil && (x.b.outbox == nil || !unsure(err)) {
			return err
		}
		have = &remote{entry: e}
	}
	e := have.entry
	for try := 0; ; try++ {
		op := x.put(x.k.Merged(val, e.Value))
		if !e.Value.IsZero() { // nothing is stored, so nothing is lost
			op = op.If(e.Version, e.Updated)
		}
		_, err := x.b.write(ctx, "set", []entry.Edit{op})
		now, again := overtaken(err)
		if !again || try == mostTries {
			return err
		}
		e = now
	}
}

// mostTries is how often a change is repeated because somebody else was faster.
const mostTries = 8

// overtaken returns the stored entry if a change was refused because it is newer.
func overtaken(err error) (now entry.Entry, again bool) {
	var e *Error
	if !errors.Is(err, pantry.ErrConflict) || !errors.As(err, &e) {
		return now, false
	}
	if e.entry != nil {
		now = *e.entry
	}
	return now, true
}

// errPending refuses a change whose base is unknown.
func errPending(name string) error {
	return refuse.As(pantry.ErrInvalid, "the server has not answered yet what is stored under %s: wait for Ready, or check the Phase", name)
}

// SetIf stores x if the stored value is still the one in seen. The error is pantry.ErrConflict if
// it is not, pantry.ErrInvalid for a State that is pending, and otherwise one of Set.
func (v Var[T]) SetIf(ctx context.Context, seen State[T], x T) error {
	return v.binding().setIf(ctx, seen.Phase, versionOf(seen), seen.Updated, &x)
}

func (x *binding) setIf(ctx context.Context, phase Phase, version int64, updated time.Time, y any) error {
	val, err := x.k.Encode(y)
	if err == nil && phase == Unknown {
		err = errPending(x.name)
	}
	if err != nil {
		return x.refuse("set", err)
	}
	_, err = x.b.write(ctx, "set", []entry.Edit{x.put(val).If(version, updated)})
	return err
}

// versionOf returns the version for a condition: 0 if nothing was stored.
func versionOf[T any](seen State[T]) int64 {
	if !seen.Found {
		return 0
	}
	return seen.Version
}

// Seed stores x if nothing is stored, and otherwise changes nothing. The errors are those of Set.
func (v Var[T]) Seed(ctx context.Context, x T) error { return v.binding().seed(ctx, &x) }

func (x *binding) seed(ctx context.Context, y any) error {
	val, err := x.k.Encode(y)
	if err != nil {
		return x.refuse("seed", err)
	}
	_, err = x.b.write(ctx, "seed", []entry.Edit{x.put(val).If(0, time.Time{})})
	if errors.Is(err, pantry.ErrConflict) {
		x.settle()
		return nil
	}
	return err
}

// settle ends Refused if the entry is as it should be.
func (x *binding) settle() {
	x.b.view.alter(x.n, func(r *remote) { r.refused = nil })
}

// Clear removes the entry of any kind, so that Get returns the default. Clearing an absent
// entry is not an error. Errors are those of Set.
func (v Var[T]) Clear(ctx context.Context) error { return v.binding().clear(ctx) }

func (x *binding) clear(ctx context.Context) error {
	_, err := x.b.write(ctx, "clear", []entry.Edit{x.op(value.Op{Verb: value.Drop})})
	if errors.Is(err, pantry.ErrAbsent) {
		x.settle()
		return nil
	}
	return err
}

// Update stores what f returns for the stored value, or for the default if nothing is stored, and
// returns what is stored now. It asks the server. If somebody else changes the entry meanwhile, f
// runs again, so it must have no side effects. After 8 tries the error is pantry.ErrConflict. If
// the stored value can't be used, f does not run: pantry.ErrWrongKind or pantry.ErrInvalid. An
// error of f is returned. An Update can't be queued: without an answer the error is ErrUnreachable.
func (v Var[T]) Update(ctx context.Context, f func(old T) (T, error)) (now T, err error) {
	x, err := v.binding().update(ctx, keydef.Update(f))
	return keydef.Value[T](x), err
}

func (x *binding) update(ctx context.Context, f func(old any) (any, error)) (now any, err error) {
	e, found, err := x.b.fetch(ctx, x.name)
	if err != nil {
		return x.get(), err
	}
	if !found {
		e = entry.Entry{}
	}
	for try := 0; ; try++ {
		val, next, err := x.next(e, f)
		if err != nil {
			return x.get(), err
		}
		_, err = x.b.writeNow(ctx, "update", []entry.Edit{x.put(val).If(e.Version, e.Updated)})
		if err == nil {
			return next, nil
		}
		stored, again := overtaken(err)
		if !again || try == mostTries-1 {
			return x.get(), err
		}
		e = stored
	}
}

// get returns a copy of the value that Get returns.
func (x *binding) get() any { return x.k.Copy(x.read().x) }

// next returns the result of f for an entry, and its stored form.
func (x *binding) next(e entry.Entry, f func(old any) (any, error)) (val value.Value, next any, err error) {
	old := x.k.Default()
	if !e.Value.IsZero() {
		if old, err = x.k.Decode(e.Value); err != nil {
			return val, next, x.unusable(e, err)
		}
	}
	if next, err = f(old); err != nil {
		return val, next, err
	}
	if val, err = x.k.Encode(next); err != nil {
		return val, next, x.refuse("update", err)
	}
	val = x.k.Merged(val, e.Value)
	next, err = x.k.Decode(val)
	return val, next, err
}

// operate applies operations to the entry in one commit, and returns what is stored then.
func (x *binding) operate(ctx context.Context, ops ...entry.Edit) (now any, err error) {
	if len(ops) == 0 {
		return x.get(), nil
	}
	if x.k.Checks() {
		return x.checked(ctx, ops)
	}
	done, err := x.b.write(ctx, ops[0].Op.Verb.String(), ops)
	return x.stored(ops, done, err)
}

// checked is operate for a key with a Check, which no operation carries: it applies the operations
// to the known value, checks the result, and sends them if that value is still stored. Nothing is
// stored that the app refuses.
func (x *binding) checked(ctx context.Context, ops []entry.Edit) (now any, err error) {
	verb := ops[0].Op.Verb.String()
	r := x.n.state.Load()
	e := r.entry
	offline := x.b.outbox != nil && x.b.mustQueue()
	if !offline && (!r.known || r.old || r.away != nil) {
		if e, _, err = x.b.fetch(ctx, x.name); err != nil {
			return x.get(), err
		}
	}
	for try := 0; ; try++ {
		next := e.Value
		for _, op := range ops {
			if next, _, err = op.Op.Apply(next); err != nil {
				break
			}
		}
		if err == nil && !next.IsZero() {
			_, err = x.k.Decode(next)
		}
		if err != nil {
			return x.get(), x.refuse(verb, err)
		}
		sent := slices.Clone(ops)
		if !offline { // a queued operation can be applied later by the server
			sent[0] = sent[0].If(versionIn(e), e.Updated)
		}
		done, err := x.b.write(ctx, verb, sent)
		stored, again := overtaken(err)
		if !again || try == mostTries-1 {
			return x.stored(ops, done, err)
		}
		e = stored
	}
}

// versionIn returns the version for a condition: 0 if nothing is stored.
func versionIn(e entry.Entry) int64 {
	if e.Value.IsZero() {
		return 0
	}
	return e.Version
}

// stored returns what a commit of operations made of the entry.
func (x *binding) stored(ops []entry.Edit, done *wire.Page, err error) (now any, _ error) {
	if err == nil {
		var e pantry.Entry
		if e, err = x.b.only(ops[0].Op.Verb.String(), x.name, done); err == nil {
			if now, err = x.k.Decode(e.Value); err == nil {
				return now, nil
			}
			err = x.unusable(entry.Entry(e), err)
		}
	}
	return x.get(), err
}

// Add adds n on the server, which counts additions of several phones at once, and returns what is
// stored now. An absent entry starts from the key's default. A result outside the key's Between or
// the range of T is pantry.ErrInvalid and changes nothing; an entry of another kind is
// pantry.ErrWrongKind. Without an answer the error is ErrUnreachable, and n may have been counted
// or not; with Offline it is ErrQueued, and n will be counted once.
func Add[T pantry.Number](ctx context.Context, v Var[T], n T) (now T, err error) {
	x, err := v.binding().operate(ctx, onNumber(v, value.Add, n))
	return keydef.Value[T](x), err
}

// Raise stores n if the variable is smaller, for example for a maximum over all phones. The errors
// are those of Add.
func Raise[T pantry.Number](ctx context.Context, v Var[T], n T) (now T, err error) {
	return within(ctx, v, value.Raise, n)
}

// Lower stores n if the variable is larger. The errors are those of Add.
func Lower[T pantry.Number](ctx context.Context, v Var[T], n T) (now T, err error) {
	return within(ctx, v, value.Lower, n)
}

// within returns an operation that can store its operand, if the key accepts the operand.
func within[T pantry.Number](ctx context.Context, v Var[T], verb value.Verb, n T) (T, error) {
	op := onNumber(v, verb, n)
	if op.Bad != nil {
		return v.Get(), v.x.refuse(verb.String(), op.Bad)
	}
	x, err := v.x.operate(ctx, op)
	return keydef.Value[T](x), err
}
