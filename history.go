package pantry

import (
	"time"

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
// all), and only what they did to the names, if any are given. A file keeps its
// newest 200 commits and the newest 20 changes of each name, as long as these take
// no more than 256 KiB, or as much as the entries if they take more. Reset leaves
// none, nor do Forget and sealing what was plain of those names. It reads the
// file, so it may wait.
func (ns *Namespace) History(limit int, names ...string) ([]CommitInfo, error) {
	past, err := ns.namespace().l.History(limit, names...)
	return past, ns.fail("read the history of", "", err)
}

// EntriesAt gives what was stored at a version, by the byte order of the names.
// The error is ErrTooOld for a version that the file doesn't tell any more, or
// not yet: it tells those on both sides of what History gives, and one in each
// minute of the last hour, each hour of two days and each day of thirty. It reads
// the file, so it may wait.
func (ns *Namespace) EntriesAt(version int64) ([]Entry, error) {
	past, err := ns.namespace().l.At(version)
	return past, ns.fail("look back in", "", err)
}

// EntriesAtTime gives what was stored at a time, and the newest version then, as
// far as the file still tells: see EntriesAt. Times are those of the clocks of the
// writers. The error is ErrTooOld for a time of which nothing is told. It reads the
// file, so it may wait.
func (ns *Namespace) EntriesAtTime(t time.Time) (entries []Entry, version int64, err error) {
	entries, version, err = ns.namespace().l.AtTime(t)
	return entries, version, ns.fail("look back in", "", err)
}
