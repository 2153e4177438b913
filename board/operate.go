package board

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keyhook"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// Set stores x on the board. It replaces a value of any kind, unless an app has declared another
// kind. When it returns nil, x is on the server's disk and is shown here. A value that breaks the
// key's own rules is not sent: pantry.ErrInvalid. Members of a stored struct that T does not have
// are kept. Without an answer the error is ErrUnreachable, and the value may have been stored or
// not; with Offline it is ErrQueued, and the value will be sent. Other errors are those of Commit.
func (v Var[T]) Set(ctx context.Context, x T) error {
	at := v.binding()
	val, err := at.k.Encode(x)
	if err != nil {
		return at.refuse("set", err)
	}
	if at.k.Merges() {
		return at.merge(ctx, val)
	}
	_, err = at.b.write(ctx, "set", []entry.Edit{at.put(val)})
	return err
}

// put makes the entry hold val.
func (x *binding[T]) put(val value.Value) entry.Edit {
	return x.op(value.Op{Verb: value.Put, Operand: val, Kind: val.Kind()})
}

// op returns an operation on the entry.
func (x *binding[T]) op(op value.Op) entry.Edit {
	return entry.Edit{Name: x.k.Name(), Op: op, Bad: x.bad}
}

// refuse shows that a change was refused before it was sent.
func (x *binding[T]) refuse(op string, err error) error {
	err = x.b.conn.fail(op, x.k.Name(), err)
	x.b.view.alter(x.n, func(r *remote) { r.refused = err })
	return err
}

// merge stores a struct with the stored members beyond its fields, as far as they are known.
func (x *binding[T]) merge(ctx context.Context, val value.Value) error {
	have := x.n.state.Load()
	if !have.known {
		e, _, err := x.b.fetch(ctx, x.k.Name())
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
	at := v.binding()
	val, err := at.k.Encode(x)
	if err == nil && seen.Phase == Unknown {
		err = errPending(at.k.Name())
	}
	if err != nil {
		return at.refuse("set", err)
	}
	_, err = at.b.write(ctx, "set", []entry.Edit{at.put(val).If(versionOf(seen), seen.Updated)})
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
func (v Var[T]) Seed(ctx context.Context, x T) error {
	at := v.binding()
	val, err := at.k.Encode(x)
	if err != nil {
		return at.refuse("seed", err)
	}
	_, err = at.b.write(ctx, "seed", []entry.Edit{at.put(val).If(0, time.Time{})})
	if errors.Is(err, pantry.ErrConflict) {
		at.settle()
		return nil
	}
	return err
}

// settle ends Refused if the entry is as it should be.
func (x *binding[T]) settle() {
	x.b.view.alter(x.n, func(r *remote) { r.refused = nil })
}

// Clear removes the entry of any kind, so that Get returns the default. Clearing an absent
// entry is not an error. Errors are those of Set.
func (v Var[T]) Clear(ctx context.Context) error {
	at := v.binding()
	_, err := at.b.write(ctx, "clear", []entry.Edit{v.binding().op(value.Op{Verb: value.Drop})})
	if errors.Is(err, pantry.ErrAbsent) {
		at.settle()
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
	at := v.binding()
	e, found, err := at.b.fetch(ctx, at.k.Name())
	if err != nil {
		return v.Get(), err
	}
	if !found {
		e = entry.Entry{}
	}
	for try := 0; ; try++ {
		val, next, err := at.next(e, f)
		if err != nil {
			return v.Get(), err
		}
		_, err = at.b.writeNow(ctx, "update", []entry.Edit{at.put(val).If(e.Version, e.Updated)})
		if err == nil {
			return next, nil
		}
		stored, again := overtaken(err)
		if !again || try == mostTries-1 {
			return v.Get(), err
		}
		e = stored
	}
}

// next returns the result of f for an entry, and its stored form.
func (x *binding[T]) next(e entry.Entry, f func(old T) (T, error)) (val value.Value, next T, err error) {
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
func (x *binding[T]) operate(ctx context.Context, ops ...entry.Edit) (now T, err error) {
	if len(ops) == 0 {
		return x.k.Copy(x.read().x), nil
	}
	if keyhook.Checks(x.k) {
		return x.checked(ctx, ops)
	}
	done, err := x.b.write(ctx, ops[0].Op.Verb.String(), ops)
	return x.stored(ops, done, err)
}

// checked is operate for a key with a Check, which no operation carries: it applies the operations
// to the known value, checks the result, and sends them if that value is still stored. Nothing is
// stored that the app refuses.
func (x *binding[T]) checked(ctx context.Context, ops []entry.Edit) (now T, err error) {
	verb := ops[0].Op.Verb.String()
	r := x.n.state.Load()
	e := r.entry
	offline := x.b.outbox != nil && x.b.mustQueue()
	if !offline && (!r.known || r.old || r.away != nil) {
		if e, _, err = x.b.fetch(ctx, x.k.Name()); err != nil {
			return x.k.Copy(x.read().x), err
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
			return x.k.Copy(x.read().x), x.refuse(verb, err)
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
func (x *binding[T]) stored(ops []entry.Edit, done *wire.Page, err error) (now T, _ error) {
	if err == nil {
		var e pantry.Entry
		if e, err = x.b.only(ops[0].Op.Verb.String(), x.k.Name(), done); err == nil {
			if now, err = x.k.Decode(e.Value); err == nil {
				return now, nil
			}
			err = x.unusable(entry.Entry(e), err)
		}
	}
	return x.k.Copy(x.read().x), err
}

// Add adds n on the server, which counts additions of several phones at once, and returns what is
// stored now. An absent entry starts from the key's default. A result outside the key's Between or
// the range of T is pantry.ErrInvalid and changes nothing; an entry of another kind is
// pantry.ErrWrongKind. Without an answer the error is ErrUnreachable, and n may have been counted
// or not; with Offline it is ErrQueued, and n will be counted once.
func Add[T pantry.Number](ctx context.Context, v Var[T], n T) (now T, err error) {
	return v.binding().operate(ctx, onNumber(v, value.Add, n))
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
	return v.x.operate(ctx, op)
}

// Append adds items at the end of the list and returns the list as it is stored now. With the key's
// Keep, the oldest items are removed. An absent entry starts from the key's default. The errors are
// those of Add.
func Append[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Append}, items)
}

// AppendUnique is Append without the items that are in the list already.
func AppendUnique[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Append, Unique: true}, items)
}

// Remove removes, for each of items, the first item of the list that equals it, and returns the
// list as it is stored now. The errors are those of Add.
func Remove[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Remove}, items)
}

// RemoveAll removes every item that equals one of items, and returns the list as it is stored now.
// The errors are those of Add.
func RemoveAll[S ~[]E, E any](ctx context.Context, v Var[S], items ...E) (S, error) {
	return onList(ctx, v, value.Op{Verb: value.Remove, All: true}, items)
}

func onList[S ~[]E, E any](ctx context.Context, v Var[S], op value.Op, items []E) (S, error) {
	ops, err := listOps(v, op, items)
	if err != nil {
		return v.Get(), v.binding().refuse(op.Verb.String(), err)
	}
	return v.binding().operate(ctx, ops...)
}

// listOps returns one op for each of items.
func listOps[S ~[]E, E any](v Var[S], op value.Op, items []E) ([]entry.Edit, error) {
	x := v.binding()
	d := x.k.Declared()[0]
	if d.Kind != value.KindList {
		panic(fmt.Sprintf("board: %s of %s takes a List key, not %s", op.Verb, d.Name, d.Kind))
	}
	op.Start, op.Keep = d.Default, d.Keep
	ops := make([]entry.Edit, len(items))
	for i := range items { // one by one: the key's rules of a list apply to all of it
		given, err := x.k.EncodeAny(S(items[i : i+1]))
		if err != nil {
			return nil, fmt.Errorf("%w: %w", pantry.ErrInvalid, err)
		}
		ops[i] = x.op(op)
		ops[i].Op.Operand = given.Item(0)
	}
	return ops, nil
}

// Take removes the item at a position from the list on the server and returns it: 0 is the first,
// -1
// the last. If two phones take at once, each gets another item. If the list has no such item, found
// is false and nothing changes. A Take can't be queued, because its result is not known yet:
// without an answer the error is ErrUnreachable, and an item may have been taken or not. Other
// errors are those of Add.
func Take[S ~[]E, E any](ctx context.Context, v Var[S], at int) (item E, found bool, err error) {
	x := v.binding()
	done, err := x.b.writeNow(ctx, "take", []entry.Edit{OpTake(v, at).edit()})
	if errors.Is(err, pantry.ErrAbsent) {
		x.settle()
		return item, false, nil
	}
	if err != nil {
		return item, false, err
	}
	list, err := x.k.DecodeAny(value.List(done.Results[0].Taken))
	if err != nil || len(list) != 1 {
		return item, false, x.b.conn.fail("take", x.k.Name(), &Error{
			Index: -1, Code: "unreadable", Err: errors.Join(pantry.ErrWrongKind, err), Sentence: fmt.Sprintf("the item that was taken out can't be used: %v", err)})
	}
	return list[0], true, nil
}
