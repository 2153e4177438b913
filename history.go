package pantry

import (
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// A CommitInfo is a commit that a namespace or a board still holds.
type CommitInfo struct {
	Version int64     // its number
	Time    time.Time // by the writer's clock; on a board by the server's
	By      string    // the writer's name, if it gave one: see ClientName
	From    string    // on a board: the instance of the writer, another one on each phone
	Over    int64     // how many commits it replaces, which end at Version; 0 means that it is one
	Changes []Change
}

// MarshalJSON returns the commit as an object:
//
//	{"version":4,"at":"2026-05-03T09:12:44.123Z","by":"plotbook","changes":[…]}
func (c CommitInfo) MarshalJSON() ([]byte, error) {
	changes := make([]entry.Change, len(c.Changes))
	for i, change := range c.Changes {
		changes[i] = entry.Change(change)
	}
	return entry.Commit{Version: c.Version, Time: c.Time, By: c.By, From: c.From, Over: c.Over, Changes: changes}.MarshalJSON()
}

// A Change is the effect of a commit on one entry.
type Change struct {
	Name string
	Old  value.Value // the zero Value means that nothing was stored
	New  value.Value // the zero Value means that nothing is stored
}

// MarshalJSON returns the change as an object. A side without a value is null and has no kind:
//
//	{"name":"plot","old":"C4","old_kind":"text","new":null}
func (c Change) MarshalJSON() ([]byte, error) { return entry.Change(c).MarshalJSON() }

func commitInfos(all []entry.Commit) []CommitInfo {
	out := make([]CommitInfo, len(all))
	for i, c := range all {
		out[i] = CommitInfo{Version: c.Version, Time: c.Time, By: c.By, From: c.From, Over: c.Over, Changes: make([]Change, len(c.Changes))}
		for n, change := range c.Changes {
			out[i].Changes[n] = Change(change)
		}
	}
	return out
}

func entries(all []entry.Entry) []Entry {
	out := make([]Entry, len(all))
	for i, e := range all {
		out[i] = Entry(e)
	}
	return out
}

// History returns the newest commits, newest first: at most limit of them (0: all), and only
// changes of the given names, if there are any. A file keeps its newest 200 commits and the newest
// 20 changes of each name while these take at most 256 KiB, or at most the size of the entries if
// that is more. Reset erases all history. Forget, and sealing a plain entry, erase the history of
// those names. History reads the file, so it can wait for the disk.
func (ns *Namespace) History(limit int, names ...string) ([]CommitInfo, error) {
	past, err := ns.namespace().l.History(limit, names...)
	return commitInfos(past), ns.fail("read the history of", "", err)
}

// EntriesAt returns the entries at a version, in byte order of the names. The error is ErrTooOld
// for a version that the file no longer holds, and for a version of the future. The file holds the
// versions before and after each commit that History returns, and one version in each minute of the
// last hour, each hour of two days and each day of thirty. EntriesAt reads the file, so it can wait
// for the disk.
func (ns *Namespace) EntriesAt(version int64) ([]Entry, error) {
	past, err := ns.namespace().l.At(version)
	return entries(past), ns.fail("read an earlier version of", "", err)
}

// EntriesAtTime returns the entries at a time, and the version of that time: see EntriesAt. Times
// are those of the writers' clocks. The error is ErrTooOld for a time that the file no longer
// covers. EntriesAtTime reads the file, so it can wait for the disk.
func (ns *Namespace) EntriesAtTime(t time.Time) ([]Entry, int64, error) {
	past, version, err := ns.namespace().l.AtTime(t)
	return entries(past), version, ns.fail("read an earlier version of", "", err)
}
