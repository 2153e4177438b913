package board

import (
	"cmp"
	"context"
	"slices"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// An Op is one step of a Commit: a change of one entry, a reset, or a restore. OpPut, OpAdd and the other
// functions make one for a variable, with the rules of its key.
type Op struct {
	// Name is the entry that is changed, and Op how.
	Name string
	Op   value.Op
	// Reset removes every entry whose name begins with Prefix instead. An empty Prefix means all.
	Reset  bool
	Prefix string
	// Restore brings back an earlier state instead, unless it is nil.
	Restore *Restore

	cond entry.Cond
	bad  error // why it can't be made
}

// A Restore says which entries an Op brings back, and from when. Entries that did not exist then are removed.
type Restore struct {
	Version int64     // the version of the board, if Time is zero
	Time    time.Time // the moment
	Names   []string  // these names, and those that begin with Prefix
	Prefix  *string   // nil means no others; empty means all
}

// If returns the op with the condition that the entry has a version, stored at a moment: see
// pantry.Entry. Version 0 means that nothing is stored. The zero moment means any. The condition is
// tested before the whole commit.
func (o Op) If(version int64, updated time.Time) Op {
	o.cond = entry.Edit{}.If(version, updated).Cond
	return o
}

// edit returns the op as it is sent. It shares nothing with the caller: it can be queued.
func (o Op) edit() entry.Edit {
	return entry.Edit{Name: o.Name, Op: o.Op, Reset: o.Reset, Prefix: o.Prefix, Restore: (*entry.Restore)(o.Restore.clone()), Cond: o.cond, Bad: o.bad}
}

// opOf returns an edit as an op.
func opOf(e entry.Edit) Op {
	return Op{Name: e.Name, Op: e.Op, Reset: e.Reset, Prefix: e.Prefix, Restore: (*Restore)(e.Restore).clone(), cond: e.Cond, bad: e.Bad}
}

func (r *Restore) clone() *Restore {
	if r == nil {
		return nil
	}
	c := *r
	c.Names = slices.Clone(r.Names)
	if r.Prefix != nil {
		c.Prefix = new(*r.Prefix)
	}
	return &c
}

// A Committed is the result of a Commit.
type Committed struct {
	// Version is the version of the board after it.
	Version int64
	// Entries are the entries that the ops are about, as they are stored now.
	Entries []pantry.Entry
	// Gone are those of them that are not stored now.
	Gone []Gone
	// Results has a result for each op, in order.
	Results []Result
	// Near are the names that it created and that nearly match others.
	Near []NearError
}

// A Gone is a name without an entry.
type Gone struct {
	Name    string
	Version int64 // of the commit that removed the entry; 0 if there never was one
}

// A Result is what an Op has done.
type Result struct {
	// Changed reports whether the entry changed.
	Changed bool
	// Taken is the item that an OpTake took out of a list; the zero Value for other ops.
	Taken value.Value
	// Replaced is the entry of another client that a put replaced although this one had not seen it; nil if
	// there is none.
	Replaced *pantry.Entry
}

// committed returns the result of a commit from its answer.
func committed(page *wire.Page) Committed {
	out := Committed{Version: page.Version, Entries: make([]pantry.Entry, len(page.Entries)), Gone: make([]Gone, len(page.Gone)), Results: make([]Result, len(page.Results))}
	for i, e := range page.Entries {
		out.Entries[i] = pantry.Entry(e)
	}
	for i, g := range page.Gone {
		out.Gone[i] = Gone(g)
	}
	for i, r := range page.Results {
		out.Results[i] = Result{Changed: r.Changed, Taken: r.Taken, Replaced: (*pantry.Entry)(r.Replaced)}
	}
	for _, f := range page.Findings {
		out.Near = append(out.Near, NearError{Name: f.Name, Near: f.Near, By: f.By})
	}
	return out
}

// MaxOps is the maximum number of ops of a Commit.
const MaxOps = wire.MaxEdits

// Commit makes all changes in one commit or, if one of them is refused, none.
//
// The errors are pantry.ErrConflict if a condition does not hold; pantry.ErrAbsent for a drop or a
// take of an absent entry; ErrWrongKind; ErrInvalid, also for more than MaxOps; ErrTooLarge;
// ErrForbidden; ErrUndeclared; ErrQuota; ErrTooLate; ErrUnreachable, and for a failing disk
// ErrUncertain, and then the changes may have been made or not. With Offline, ErrQueued
// replaces ErrUnreachable: the changes will be sent.
func (b *Board) Commit(ctx context.Context, ops ...Op) (Committed, error) {
	edits := make([]entry.Edit, len(ops))
	for i, o := range ops {
		edits[i] = o.edit()
	}
	page, err := b.write(ctx, "commit", edits)
	if err != nil {
		return Committed{}, err
	}
	return committed(page), nil
}

// OpPut is Set as a step of a Commit, which refuses a value that breaks the key's rules.
func OpPut[T any](v Var[T], x T) Op { return opOf(v.binding().putOp(&x)) }

func (x *binding) putOp(y any) entry.Edit {
	val, err := x.k.Encode(y)
	if err != nil {
		return impossible(x.name, err)
	}
	return x.put(val)
}

// impossible returns an edit that a write refuses with err.
func impossible(name string, err error) entry.Edit {
	return entry.Edit{Name: name, Op: value.Op{Verb: value.Put}, Bad: err}
}

// OpClear is Clear as a step of a Commit; an absent entry is pantry.ErrAbsent.
func OpClear[T any](v Var[T]) Op {
	return opOf(v.binding().op(value.Op{Verb: value.Drop}))
}

// OpAdd is Add as a step of a Commit.
func OpAdd[T pantry.Number](v Var[T], n T) Op { return opOf(onNumber(v, value.Add, n)) }

// OpRaise is Raise as a step of a Commit.
func OpRaise[T pantry.Number](v Var[T], n T) Op { return opOf(onNumber(v, value.Raise, n)) }

// OpLower is Lower as a step of a Commit.
func OpLower[T pantry.Number](v Var[T], n T) Op { return opOf(onNumber(v, value.Lower, n)) }

func onNumber[T pantry.Number](v Var[T], verb value.Verb, n T) entry.Edit {
	return v.binding().onNumber(verb, number(n), &n)
}

// onNumber returns an operation with a number, n, which is y as a value.
func (x *binding) onNumber(verb value.Verb, n value.Value, y any) entry.Edit {
	d := x.k.Declaration()
	min, max := x.k.Bounds()
	over, ok1 := value.Compare(n, max)
	under, ok2 := value.Compare(n, min)
	if verb == value.Raise && ok1 && over > 0 || verb == value.Lower && ok2 && under < 0 {
		_, err := x.k.Encode(y)
		return impossible(d.Name, cmp.Or(err, error(refuse.As(pantry.ErrInvalid, "%v is outside the range of %s", n, d.Name))))
	}
	return x.op(value.Op{Verb: verb, Operand: n, Start: d.Default, Min: min, Max: max})
}

// number returns n as the value that a key of its type stores.
func number[T pantry.Number](n T) value.Value {
	if half := 0.5; T(half) != 0 { // it holds fractions
		return value.Float(float64(n))
	}
	return value.Int(int64(n))
}

// OpAppend is Append as a step of a Commit, which refuses an item that can't be stored.
func OpAppend[S ~[]E, E any](v Var[S], item E) Op {
	return oneOp(v, value.Op{Verb: value.Append}, item)
}

// OpRemove is Remove as a step of a Commit.
func OpRemove[S ~[]E, E any](v Var[S], item E) Op {
	return oneOp(v, value.Op{Verb: value.Remove}, item)
}

func oneOp[S ~[]E, E any](v Var[S], op value.Op, item E) Op {
	return opOf(v.binding().oneOp(op, &S{item}))
}

func (x *binding) oneOp(op value.Op, items any) entry.Edit {
	ops, err := x.listOps(op, items)
	if err != nil {
		return impossible(x.name, err)
	}
	return ops[0]
}

// OpTake is Take as a step of a Commit.
func OpTake[S ~[]E, E any](v Var[S], at int) Op { return opOf(v.binding().takeOp(at)) }
