package place

import (
	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
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
