package rules

import (
	"fmt"
	"maps"
	"slices"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// MaxRestores is the maximum number of restores in one commit.
const MaxRestores = 8

// readPast reads what each restore among edits brings back, and each earlier state once. It runs
// before the commit is evaluated, since it can take long.
func readPast(l *ledger.Ledger, edits []entry.Edit) (past []map[string]value.Value, err error) {
	type moment struct {
		version int64
		at      int64
	}
	states, restores := map[moment][]entry.Entry{}, 0
	for i, e := range edits {
		if e.Restore == nil {
			continue
		}
		if restores++; restores > MaxRestores {
			return nil, &Refusal{Edit: i, Err: refuse.As(value.ErrInvalid, "a commit can have at most %d restores", MaxRestores)}
		}
		when := moment{e.Restore.Version, e.Restore.Time.UnixNano()}
		entries, read := states[when]
		switch {
		case read:
		case e.Restore.Time.IsZero():
			entries, err = l.At(e.Restore.Version)
		default:
			entries, _, err = l.AtTime(e.Restore.Time)
		}
		if err != nil {
			return nil, &Refusal{Edit: i, Err: err}
		}
		states[when] = entries
		if past == nil {
			past = make([]map[string]value.Value, len(edits))
		}
		past[i] = map[string]value.Value{}
		for _, was := range entries {
			if e.Restore.Has(was.Name) {
				past[i][was.Name] = was.Value
			}
		}
	}
	return past, nil
}

// restore brings back an earlier state.
func (j *judgement) restore(tx *ledger.Tx, of entry.Restore, was map[string]value.Value) (r Result, err error) {
	names := slices.Collect(maps.Keys(was))
	for _, name := range tx.Names() {
		if _, known := was[name]; !known && of.Has(name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		v := was[name]
		if value.Equal(tx.Value(name), v) {
			continue
		}
		if v.IsZero() {
			tx.Drop(name)
		} else {
			declared := tx.DeclaredFor(name)
			if err := undeclared(tx, name, declared, j.c.Prefix); err != nil {
				return r, err
			}
			if err := declared.JudgeWhole(v); err != nil {
				return r, fmt.Errorf("%s: %w", name, err)
			}
			enc, err := ledger.Encode(v)
			if err != nil {
				return r, err
			}
			j.work += int64(enc.Size() + len(name)) // it counts as written, but has no limit of its own
			tx.Put(name, enc)
		}
		j.note(name, tx.Record(name), v)
		r.Changed = true
	}
	return r, nil
}
