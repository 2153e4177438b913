// Package rules implements the meaning of a call: it evaluates edits and their conditions on a
// ledger, using what is stored and declared. It knows no HTTP and no command line. Servers and
// commands change entries by name through this package.
package rules

import (
	"errors"
	"fmt"
	"slices"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// A Refusal says which edit of a commit was refused, and holds the present entry if a condition
// failed.
type Refusal struct {
	Edit  int          // its index
	Entry *entry.Entry // with ErrConflict: the present entry, if any
	Err   error
}

func (r *Refusal) Error() string { return r.Err.Error() }

// Unwrap returns the cause.
func (r *Refusal) Unwrap() error { return r.Err }

// A Call is a commit with its caller and its conditions.
type Call struct {
	Who   entry.Author
	Edits []entry.Edit
	// Widen turns an undeclared int into a float for a number with a fraction.
	Widen  bool
	Limits Limits // the zero Limits means no limits
	// Prefix limits the names that the caller may learn about.
	Prefix string
	// Guard returns an error if the caller may not make an edit. It sees what was stored and
	// declared before the commit. nil allows all.
	Guard func(tx *ledger.Tx, e entry.Edit) error
	// Allowed returns an error if the caller may no longer commit, at the moment of the commit. nil
	// allows it.
	Allowed func() error
	// Reserve takes room for the bytes that the commit has encoded so far, and returns an error if there
	// is none. It is called with the total, also when the commit is evaluated again. nil allows all.
	Reserve func(total int64) error
	// Erase makes the commit erase the old values of the names in the edits.
	Erase bool
	// Status returns the status of a success; nil means no status.
	Status func(created bool) int
	// Request makes the commit count once, even if it is repeated; nil means that each one counts.
	Request *Request
}

// An Outcome is the result of a commit.
type Outcome struct {
	Version int64         // of the place, after the commit
	Entries []entry.Entry // the present entries of the names in the edits
	Gone    []entry.Gone  // those of the names that are absent
	Results []Result      // one per edit
	// Findings are the undeclared names that the commit created and that nearly match others.
	Findings []Near
	Status   int   // the status to answer with; 0 if the Call has none
	Work     int64 // how many bytes the edits encoded
	// Repeated reports that the request was done before.
	Repeated bool
	Duty     error // a *ledger.DutyError if old values could not be erased yet

	after, before *ledger.CommitID // on a board
}

// Mark returns the board's mark after the commit.
func (o Outcome) Mark() mark.Mark { return mark.Of(*o.after) }

// Since returns the mark before the commit, or the zero Mark if Repeated is set.
func (o Outcome) Since() mark.Mark {
	if o.Repeated {
		return mark.Mark{}
	}
	return mark.Of(*o.before)
}

// A Result is the effect of one edit.
type Result struct {
	Changed bool
	Taken   value.Value // the item that a Take removed
	// Replaced is what a put replaced although its writer had not seen it (Edit.Seen), and another
	// client had stored it; else nil.
	Replaced *entry.Entry
}

// Commit makes edits in order, all or none. It evaluates them when the commit is first in the
// queue. Each edit sees the effect of those before it. Every condition tests the state before the
// commit. Declared keys are enforced: kind, bounds, length of a list, and the default as start.
//
// The errors are a *Refusal, whose cause is entry.ErrConflict, value.ErrAbsent, value.ErrWrongKind,
// value.ErrOutOfRange, value.ErrInvalid or ledger.ErrTooLarge; and those of ledger.Commit. With a
// Request also ErrKeyReused and ErrTooLate; and ErrUndeclared if the list of declared keys is
// closed.
func Commit(l *ledger.Ledger, c Call) (Outcome, error) {
	past, err := readPast(l, c.Edits)
	if err != nil {
		return Outcome{}, err
	}
	j := &judgement{c: c, past: past}
	result, err := l.CommitWithin(0, c.Who, j)
	if err != nil {
		return Outcome{}, err
	}
	out := j.outcome(result)
	if !out.Repeated {
		out.Findings = createdNear(l, c.Prefix, j.createdNames())
	}
	return out, nil
}

// CommitNew is Commit for a board that does not exist yet. It calls create only if the commit
// changes something: a refused commit, and one without an effect, creates no board.
func CommitNew(c Call, create func() (*ledger.Ledger, error)) (Outcome, error) {
	j := &judgement{c: c}
	if err := ledger.OnNothing(j.Judge); err != nil {
		return Outcome{}, err
	}
	if !j.created() {
		out := j.outcome(ledger.Result{Stamp: &ledger.Stamp{}})
		out.after, out.before = &ledger.CommitID{}, &ledger.CommitID{}
		return out, nil
	}
	l, err := create()
	if err != nil {
		return Outcome{}, err
	}
	return Commit(l, c)
}

// A judgement is the evaluation of a commit. It is a ledger.Judge: only its last run counts.
type judgement struct {
	c    Call
	past []map[string]value.Value // for each edit that restores, what it restores

	results []Result
	noted   []noted         // in the order of the edits
	at      map[string]int  // index of a name in noted; made if there are more than a few
	work    int64           // encoded bytes
	status  int             // as in Outcome
	repeats *ledger.Receipt // the request was done before; nil if it was not

	oneResult [1]Result // the memory of results and noted, for the common commit of one edit
	oneNoted  [1]noted
}

// Judge makes the edits on the state that tx has.
func (j *judgement) Judge(tx *ledger.Tx) error {
	c := &j.c
	j.results, j.noted, j.at, j.work, j.repeats = j.oneResult[:0], j.oneNoted[:0], nil, 0, nil
	if c.Allowed != nil {
		if err := c.Allowed(); err != nil {
			return err
		}
	}
	if c.Request != nil {
		done, err := c.Request.find(tx)
		if err != nil {
			return err
		}
		if done != nil {
			return j.repeat(tx, c.Edits, done)
		}
	}
	if c.Guard != nil {
		for i, e := range c.Edits {
			if err := c.Guard(tx, e); err != nil {
				return &Refusal{Edit: i, Err: err}
			}
		}
	}
	if err := j.make(tx, c.Edits); err != nil {
		return err
	}
	if err := c.Limits.check(tx, c.Prefix); err != nil {
		return err
	}
	for i := 0; c.Erase && i < len(c.Edits); i++ {
		tx.Owe(c.Edits[i].Name)
	}
	if c.Status != nil {
		j.status = c.Status(j.created())
	}
	if c.Request != nil {
		c.Request.keep(tx, j)
	}
	return nil
}

// make makes the edits in turn. A refused one is a Refusal.
func (j *judgement) make(tx *ledger.Tx, edits []entry.Edit) error {
	j.results, j.noted = slices.Grow(j.results, len(edits)), slices.Grow(j.noted, len(edits))
	for i, e := range edits {
		var result Result
		var err error
		switch {
		case e.Restore == nil:
			result, err = j.edit(tx, e)
		case j.past == nil: // the board does not exist
			err = refuse.As(ledger.ErrTooOld, "the board is new, so it has no earlier state")
		default:
			result, err = j.restore(tx, *e.Restore, j.past[i])
		}
		if err == nil {
			j.results = append(j.results, result)
			continue
		}
		r := &Refusal{Edit: i, Err: err}
		if rec := tx.Record(e.Name); errors.Is(err, entry.ErrConflict) && rec.Found() {
			has := ledger.Named{Name: e.Name, Record: rec}.Entry()
			r.Entry = &has
		}
		return r
	}
	return nil
}

// created reports whether the commit creates an entry.
func (j *judgement) created() bool {
	return slices.ContainsFunc(j.noted, noted.isNew)
}

// createdNames returns the names that the commit creates.
func (j *judgement) createdNames() (names []string) {
	for _, one := range j.noted {
		if one.isNew() {
			names = append(names, one.name)
		}
	}
	return names
}

func (n noted) isNew() bool { return !n.now.IsZero() && !n.before.Found() }

// edit makes one edit.
func (j *judgement) edit(tx *ledger.Tx, e entry.Edit) (Result, error) {
	if e.Reset {
		return j.reset(tx, e.Prefix), nil
	}
	rec := tx.Record(e.Name)
	if err := e.Cond.Check(e.Name, rec.Found(), rec.Tag()); err != nil {
		return Result{}, err
	}
	now := tx.Value(e.Name)
	if e.Op.Verb == value.Drop && now.IsZero() {
		return Result{}, Absent(e.Name)
	}
	declared := entry.Declared{Key: entry.Key{Name: e.Name}}
	if !e.Force {
		declared = tx.DeclaredFor(e.Name)
		if e.Op.Verb != value.Drop {
			if err := undeclared(tx, e.Name, declared, j.c.Prefix); err != nil {
				return Result{}, err
			}
		}
	}
	op, err := j.resolve(e.Op, e.Name, declared, now)
	if err != nil {
		return Result{}, err
	}
	next, taken, err := op.Apply(now)
	if err != nil {
		return Result{}, explain(e.Name, declared, now, err)
	}
	if err := declared.Judge(next); err != nil && !value.Equal(now, next) {
		return Result{}, fmt.Errorf("%s: %w", e.Name, err)
	}
	if op.Verb == value.Drop {
		tx.Drop(e.Name)
	} else {
		enc, err := ledger.Encode(next)
		if err != nil {
			return Result{}, err
		}
		if j.work += int64(enc.Size() + len(e.Name)); j.c.Limits.Work > 0 && j.work > j.c.Limits.Work {
			return Result{}, refuse.As(ledger.ErrTooLarge, "the ops of this commit write %d bytes or more in turn, and the limit is %d: make several commits, or put the value once", j.work, j.c.Limits.Work)
		}
		if j.c.Reserve != nil {
			if err := j.c.Reserve(j.work); err != nil {
				return Result{}, err
			}
		}
		tx.Put(e.Name, enc)
	}
	r := Result{Changed: !value.Equal(now, next), Taken: taken}
	if e.Seen != nil && r.Changed && j.index(e.Name) < 0 && rec.Found() && rec.Tag().NewerThan(*e.Seen) && (rec.From == "" || rec.From != j.c.Who.From) {
		was := ledger.Named{Name: e.Name, Record: rec}.Entry()
		r.Replaced = &was
	}
	j.note(e.Name, rec, next)
	return r, nil
}

// A noted name has its value before and after the edits.
type noted struct {
	name   string
	before *ledger.Record
	now    value.Value
}

// few is how many names are searched linearly.
const few = 8

// index returns the position of a name in noted, or -1.
func (j *judgement) index(name string) int {
	if j.at == nil {
		return slices.IndexFunc(j.noted, func(one noted) bool { return one.name == name })
	}
	if i, known := j.at[name]; known {
		return i
	}
	return -1
}

// note records the effect of an edit on an entry.
func (j *judgement) note(name string, before *ledger.Record, now value.Value) {
	if at := j.index(name); at >= 0 {
		j.noted[at].now = now
		return
	}
	j.noted = append(j.noted, noted{name, before, now})
	switch n := len(j.noted); {
	case j.at != nil:
		j.at[name] = n - 1
	case n > few:
		j.at = map[string]int{}
		for i, one := range j.noted {
			j.at[one.name] = i
		}
	}
}

func (j *judgement) reset(tx *ledger.Tx, prefix string) (r Result) {
	for _, name := range tx.NamesUnder(prefix) {
		j.note(name, tx.Record(name), value.Value{})
		tx.Drop(name)
		r.Changed = true
	}
	return r
}

// outcome returns the result of the commit.
func (j *judgement) outcome(result ledger.Result) Outcome {
	out := Outcome{Version: result.Version, Results: j.results, Status: j.status, Work: j.work, Repeated: j.repeats != nil, Duty: result.Duty}
	out.after, out.before = result.After, result.Before
	for _, one := range j.noted {
		name, rec, now := one.name, one.before, one.now
		if !value.Equal(rec.Value, now) {
			rec = &ledger.Record{Value: now, Stamp: result.Stamp}
		}
		if now.IsZero() {
			out.Gone = append(out.Gone, entry.Gone{Name: name, Version: rec.Version})
		} else {
			out.Entries = append(out.Entries, ledger.Named{Name: name, Record: rec}.Entry())
		}
	}
	return out
}

// Absent returns the error for an absent name.
func Absent(name string) error {
	return refuse.As(value.ErrAbsent, "nothing is stored under %s", name)
}

// explain adds the entry to the refusal of its operation.
func explain(name string, declared entry.Declared, now value.Value, err error) error {
	switch {
	case errors.Is(err, value.ErrAbsent) && now.IsZero():
		return Absent(name)
	case errors.Is(err, value.ErrAbsent):
		return refuse.As(value.ErrAbsent, "%s: %v", name, err)
	case errors.Is(err, value.ErrWrongKind) && !now.IsZero():
		return refuse.As(value.ErrWrongKind, "%s is %s: %v", name, now.Kind(), err)
	case errors.Is(err, value.ErrOutOfRange) && !declared.Min.IsZero():
		return &entry.DeclaredError{Err: refuse.As(value.ErrOutOfRange, "%s: %v; it is declared from %s to %s", name, err, declared.Min, declared.Max)}
	case errors.Is(err, value.ErrOutOfRange) && !now.IsZero():
		return refuse.As(value.ErrOutOfRange, "%s stays at %s: %v", name, entry.Quoted(now), err)
	}
	return fmt.Errorf("%s: %w", name, err)
}
