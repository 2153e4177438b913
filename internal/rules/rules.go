// Package rules says what a call means: edits with their conditions, judged on
// a ledger by what is stored and what is declared. It knows no HTTP and no
// command line; a server, a command and whoever else changes entries by name
// all come through here.
package rules

import (
	"errors"
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// A Refusal says which edit of a commit was refused, and what stands where it
// would have changed something.
type Refusal struct {
	Edit  int          // its index
	Entry *entry.Entry // with ErrConflict: what is stored, if anything is
	Err   error
}

func (r *Refusal) Error() string { return r.Err.Error() }

// Unwrap gives the cause.
func (r *Refusal) Unwrap() error { return r.Err }

// An Outcome is what a commit did.
type Outcome struct {
	Version int64           // of the place, after it
	Before  int64           // and before it
	Entries []entry.Entry   // the names that the edits are about, as they stand now
	Gone    []entry.Gone    // those of them that are absent
	Results []Result        // one an edit
	Created map[string]bool // the names that were absent before
}

// A Result is what one edit did.
type Result struct {
	Changed bool
	Taken   value.Value // what a Take took out
}

// Commit makes edits in order, all or none, as they are judged when their turn
// comes: each sees what those before it made of the entries, and every
// condition is about the state before the commit. What an app has declared
// holds: the kind, the bounds, the length of a list, the default as a start.
//
// The errors are a *Refusal, whose cause is entry.ErrConflict, value.ErrAbsent,
// value.ErrWrongKind, value.ErrOutOfRange, value.ErrInvalid or
// ledger.ErrTooLarge; and those of ledger.Commit.
func Commit(l *ledger.Ledger, who entry.Author, edits []entry.Edit) (Outcome, error) {
	j, result, err := ledger.Do(l, who, func(tx *ledger.Tx) (*judgement, error) { return judge(tx, edits) })
	if err != nil {
		return Outcome{}, err
	}
	return j.outcome(result), nil
}

// A judgement is one run of a commit's judge.
type judgement struct {
	results []Result
	names   []string // that edits are about, in order
	now     map[string]value.Value
	before  map[string]*ledger.Record
}

func judge(tx *ledger.Tx, edits []entry.Edit) (*judgement, error) {
	j := &judgement{
		results: make([]Result, 0, len(edits)),
		now:     make(map[string]value.Value, len(edits)), before: make(map[string]*ledger.Record, len(edits)),
	}
	for i, e := range edits {
		result, err := j.edit(tx, e)
		if err == nil {
			j.results = append(j.results, result)
			continue
		}
		r := &Refusal{Edit: i, Err: err}
		if rec := tx.Record(e.Name); errors.Is(err, entry.ErrConflict) && rec.Found() {
			has := ledger.Named{Name: e.Name, Record: rec}.Entry()
			r.Entry = &has
		}
		return nil, r
	}
	return j, nil
}

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
	declared := entry.Declared{Name: e.Name}
	if !e.Force {
		declared = entry.DeclaredFor(e.Name, tx.Declared)
	}
	op, err := resolve(e.Op, e.Name, declared, now)
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
		tx.Put(e.Name, enc)
	}
	j.note(e.Name, rec, next)
	return Result{Changed: !value.Equal(now, next), Taken: taken}, nil
}

func (j *judgement) note(name string, before *ledger.Record, now value.Value) {
	if _, known := j.before[name]; !known {
		j.names = append(j.names, name)
		j.before[name] = before
	}
	j.now[name] = now
}

func (j *judgement) reset(tx *ledger.Tx, prefix string) (r Result) {
	for _, name := range tx.Names() {
		if strings.HasPrefix(name, prefix) {
			j.note(name, tx.Record(name), value.Value{})
			tx.Drop(name)
			r.Changed = true
		}
	}
	return r
}

// outcome tells what the commit did.
func (j *judgement) outcome(result ledger.Result) Outcome {
	out := Outcome{Version: result.Version, Before: result.Version, Results: j.results, Created: map[string]bool{}}
	if result.Changed {
		out.Before--
	}
	for _, name := range j.names {
		rec, now := j.before[name], j.now[name]
		if !value.Equal(rec.Value, now) {
			out.Created[name] = !rec.Found()
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

// Absent is the error for a name under which nothing is stored.
func Absent(name string) error {
	return refuse.As(value.ErrAbsent, "nothing is stored under %s", name)
}

// explain names the entry in what its operation refused.
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
