package pantry

import (
	"time"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A CommitInfo is a commit as the file still tells it.
type CommitInfo struct {
	Version int64
	Time    time.Time // by the clock of the writer
	By      string    // the app, where it gave its name (see As)
	Changes []Change
}

// A Change is what a commit did to one entry. A value whose IsZero is true
// means that nothing was stored.
type Change struct {
	Name     string
	Old, New value.Value
}

// History gives the newest commits, newest first: at most limit of them (0:
// all), and only what they did to the names, if any are given. A file keeps
// about its newest 200 commits; Reset, and sealing what was plain, leave none.
// It reads the file, so it may wait.
func (ns *Namespace) History(limit int, names ...string) ([]CommitInfo, error) {
	past, err := ns.namespace().l.History(limit, names...)
	if err != nil {
		return nil, ns.fail("read the history of", "", err)
	}
	out := make([]CommitInfo, len(past))
	for i, p := range past {
		out[i] = CommitInfo{Version: p.Version, Time: p.Time(), By: p.By, Changes: changesOf(p.Changes)}
	}
	return out, nil
}

// EntriesAt gives what was stored at a version, by the byte order of the names.
// The error is ErrTooOld for a version that the file doesn't tell any more, or
// not yet. It reads the file, so it may wait.
func (ns *Namespace) EntriesAt(version int64) ([]Entry, error) {
	past, err := ns.namespace().l.At(version)
	if err != nil {
		return nil, ns.fail("look back in", "", err)
	}
	out := make([]Entry, len(past))
	for i, e := range past {
		out[i] = entryOf(e)
	}
	return out, nil
}

func changesOf(past []ledger.PastChange) []Change {
	out := make([]Change, len(past))
	for i, c := range past {
		out[i] = Change(c)
	}
	return out
}
