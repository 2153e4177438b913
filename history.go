package pantry

import (
	"github.com/small-pantry/pantry/internal/entry"
)

// A CommitInfo is a commit as the file still tells it: Version, Time (by the
// clock of the writer), By (the app, where it gave its name: see As), From (on a
// board, which of its copies), and its Changes.
type CommitInfo = entry.Commit

// A Change is what a commit did to one entry: its Name, and what it held, Old,
// and holds, New. A value whose IsZero is true means that nothing was stored.
type Change = entry.Change

// History gives the newest commits, newest first: at most limit of them (0:
// all), and only what they did to the names, if any are given. A file keeps
// about its newest 200 commits; Reset, and sealing what was plain, leave none.
// It reads the file, so it may wait.
func (ns *Namespace) History(limit int, names ...string) ([]CommitInfo, error) {
	past, err := ns.namespace().l.History(limit, names...)
	return past, ns.fail("read the history of", "", err)
}

// EntriesAt gives what was stored at a version, by the byte order of the names.
// The error is ErrTooOld for a version that the file doesn't tell any more, or
// not yet. It reads the file, so it may wait.
func (ns *Namespace) EntriesAt(version int64) ([]Entry, error) {
	past, err := ns.namespace().l.At(version)
	return past, ns.fail("look back in", "", err)
}
