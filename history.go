package pantry

import (
	"time"

	"github.com/small-pantry/pantry/internal/entry"
)

// A CommitInfo is a commit that the file still holds: Version, Time (by the writer's clock), By
// (the writer's name, if it gave one: see As), From (on a board, the writer's instance), and
// Changes.
type CommitInfo = entry.Commit

// A Change is the effect of a commit on one entry: its Name, the Old value and the New value. The
// zero Value means that nothing was stored.
type Change = entry.Change

// History returns the newest commits, newest first: at most limit of them (0: all), and only
// changes of the given names, if there are any. A file keeps its newest 200 commits and the newest
// 20 changes of each name while these take at most 256 KiB, or at most the size of the entries if
// that is more. Reset erases all history. Forget, and sealing a plain entry, erase the history of
// those names. History reads the file, so it can wait for the disk.
func (ns *Namespace) History(limit int, names ...string) ([]CommitInfo, error) {
	past, err := ns.namespace().l.History(limit, names...)
	return past, ns.fail("read the history of", "", err)
}

// EntriesAt returns the entries at a version, in byte order of the names. The error is ErrTooOld
// for a version that the file no longer holds, and for a version of the future. The file holds the
// versions before and after each commit that History returns, and one version in each minute of the
// last hour, each hour of two days and each day of thirty. EntriesAt reads the file, so it can wait
// for the disk.
func (ns *Namespace) EntriesAt(version int64) ([]Entry, error) {
	past, err := ns.namespace().l.At(version)
	return past, ns.fail("read an earlier version of", "", err)
}

// EntriesAtTime returns the entries at a time, and the version of that time: see EntriesAt. Times
// are those of the writers' clocks. The error is ErrTooOld for a time that the file no longer
// covers. EntriesAtTime reads the file, so it can wait for the disk.
func (ns *Namespace) EntriesAtTime(t time.Time) (entries []Entry, version int64, err error) {
	entries, version, err = ns.namespace().l.AtTime(t)
	return entries, version, ns.fail("read an earlier version of", "", err)
}
