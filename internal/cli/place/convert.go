package place

import (
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
)

// entriesOf returns entries of the public API as the other packages use them.
func entriesOf(all []pantry.Entry) []entry.Entry {
	out := make([]entry.Entry, len(all))
	for i, e := range all {
		out[i] = entry.Entry(e)
	}
	return out
}

func commitsOf(all []pantry.CommitInfo) []entry.Commit {
	out := make([]entry.Commit, len(all))
	for i, c := range all {
		out[i] = entry.Commit{Version: c.Version, Time: c.Time, By: c.By, From: c.From, Over: c.Over, Changes: make([]entry.Change, len(c.Changes))}
		for n, change := range c.Changes {
			out[i].Changes[n] = entry.Change(change)
		}
	}
	return out
}

func declarationsOf(all []pantry.DeclaredKey) []entry.Declared {
	out := make([]entry.Declared, len(all))
	for i, d := range all {
		out[i].Key = entry.Key(d)
	}
	return out
}

// OpOf returns an edit of one entry as an op. Edits in this package have one condition at most.
func OpOf(e entry.Edit) board.Op {
	o := board.Op{Name: e.Name, Op: e.Op, Reset: e.Reset, Prefix: e.Prefix}
	for _, tag := range e.Cond.Is {
		at := time.Time{}
		if tag.At != 0 {
			at = time.UnixMilli(tag.At)
		}
		o = o.If(tag.Version, at)
	}
	return o
}

// OutcomeOf returns the result of a commit of a board as the other packages use it.
func OutcomeOf(done board.Committed) rules.Outcome {
	out := rules.Outcome{Version: done.Version, Entries: entriesOf(done.Entries)}
	for _, g := range done.Gone {
		out.Gone = append(out.Gone, entry.Gone(g))
	}
	for _, r := range done.Results {
		out.Results = append(out.Results, rules.Result{Changed: r.Changed, Taken: r.Taken, Replaced: (*entry.Entry)(r.Replaced)})
	}
	return out
}
