package ledger

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/value"
)

// ErrTooOld is returned for a version that the file doesn't tell any more.
var ErrTooOld = errors.New("too old")

// A HistoryQuery is what is asked of a history.
type HistoryQuery struct {
	Limit  int                    // the newest commits; 0: all
	Before int64                  // only those before this version; 0: all
	Has    func(name string) bool // only what they did to these names; nil: all
	Points bool                   // restore points too, which stand for several commits
	Bytes  int                    // no more than so many of values, but one commit at least; 0: any number
}

// History gives the newest commits that the file still tells, newest first: at
// most limit of them (0: all), and only what they did to the names, if there
// are any.
func (l *Ledger) History(limit int, names ...string) ([]entry.Commit, error) {
	q := HistoryQuery{Limit: limit}
	if len(names) > 0 {
		q.Has = func(name string) bool { return slices.Contains(names, name) }
	}
	out, _, err := l.HistoryOf(q)
	return out, err
}

// HistoryOf gives what is asked for of the history, newest first. more says that Bytes has
// left older ones out.
func (l *Ledger) HistoryOf(q HistoryQuery) (out []entry.Commit, more bool, err error) {
	err = l.replay(q.Points, func(c *commit, old func(string) value.Value) {
		if q.Before > 0 && c.Version >= q.Before {
			return
		}
		p := entry.Commit{Version: c.Version, Time: c.Time(), By: c.By, From: c.From, Over: c.over}
		for _, ch := range c.changes {
			if q.Has == nil || q.Has(ch.name) {
				p.Changes = append(p.Changes, entry.Change{Name: ch.name, Old: old(ch.name), New: ch.val})
			}
		}
		if len(p.Changes) > 0 {
			out = append(out, p)
		}
	})
	slices.Reverse(out)
	if q.Limit > 0 && len(out) > q.Limit {
		out = out[:q.Limit]
	}
	if q.Bytes > 0 {
		size := 0
		for i, c := range out {
			for _, ch := range c.Changes {
				size += len(ch.Name) + jsonLen(ch.Old) + jsonLen(ch.New)
			}
			if i > 0 && size > q.Bytes {
				return out[:i:i], true, err
			}
		}
	}
	return out, false, err
}

func jsonLen(v value.Value) int {
	if v.IsZero() {
		return 0
	}
	return v.JSONLen()
}

// At gives the entries as they were at a version, by name. The error is
// ErrTooOld where the file doesn't tell that any more, or not yet.
func (l *Ledger) At(version int64) ([]entry.Entry, error) {
	v, err := l.view()
	if err != nil {
		return nil, err
	}
	defer v.Close()
	return at(v, version)
}

// AtTime gives the entries as they were at a time, by name, and the version that
// was the newest then: that of the last commit that is told and has no later time.
// The error is ErrTooOld where none is.
func (l *Ledger) AtTime(t time.Time) (entries []entry.Entry, version int64, err error) {
	v, err := l.view()
	if err != nil {
		return nil, 0, err
	}
	defer v.Close()
	base, ms := v.Header().Base, t.UnixMilli()
	version = -1
	if base == 0 {
		version = 0 // before the first commit there was nothing
	}
	oldest := int64(math.MaxInt64)
	err = v.Read(&replayer{each: func(c *commit) {
		if c.Version < base || c.Version == base && c.At == 0 { // the time of the base is not told by another version's
			return
		}
		if c.At <= ms {
			version = c.Version
		}
		oldest = min(oldest, c.At)
	}})
	if err != nil {
		return nil, 0, err
	}
	if version < 0 {
		since := ""
		if oldest < math.MaxInt64 {
			since = "; the file tells how it was from " + entry.FormatTime(time.UnixMilli(oldest)) + " on"
		}
		return nil, 0, fmt.Errorf("%w: how it was at %s is not kept%s", ErrTooOld, entry.FormatTime(t), since)
	}
	entries, err = at(v, version)
	return entries, version, err
}

// at gives the entries of a view as they were at a version.
func at(v Past, version int64) ([]entry.Entry, error) {
	if base, newest := v.Header().Base, v.Version(); version < base || version > newest {
		return nil, fmt.Errorf("%w: version %d is not kept; the file tells versions %d to %d", ErrTooOld, version, base, newest)
	}
	recs := map[string]*Record{}
	within := false // a line that stands for several commits
	err := v.Read(&replayer{each: func(c *commit) {
		if c.Version > version {
			within = within || version > c.Version-c.over
			return
		}
		stamp := c.Stamp
		for _, ch := range c.changes {
			recs[ch.name] = &Record{Value: ch.val, Stamp: &stamp}
		}
	}})
	if within {
		return nil, fmt.Errorf("%w: version %d is not kept: of the commits around it the file tells only what they came to", ErrTooOld, version)
	}
	var out []entry.Entry
	for _, name := range slices.Sorted(maps.Keys(recs)) {
		if recs[name].Found() {
			out = append(out, Named{name, recs[name]}.Entry())
		}
	}
	return out, err
}

// view gives the file as it is now, to be read while others write.
func (l *Ledger) view() (Past, error) {
	l.io.Lock()
	defer l.io.Unlock()
	if l.isClosed() {
		return nil, ErrClosed
	}
	if err := l.follow(l.opts.Wait); err != nil {
		return nil, err
	}
	return l.log.Past(l.head)
}

// replay gives each commit after the base that the file tells one by one, and with
// points what it tells of several together, with what its names held before.
func (l *Ledger) replay(points bool, each func(c *commit, old func(string) value.Value)) error {
	v, err := l.view()
	if err != nil {
		return err
	}
	defer v.Close()
	held := map[string]value.Value{}
	base := v.Header().Base
	return v.Read(&replayer{each: func(c *commit) {
		if c.Version > base && (c.over == 0 || points) {
			each(c, func(name string) value.Value { return held[name] })
		}
		for _, ch := range c.changes {
			held[ch.name] = ch.val
		}
	}})
}

// A copier copies lines as they stand.
type copier struct {
	decoder
	state *State
	line  []byte
}

func (c *copier) Decode(line []byte) (journal.Mark, error) {
	c.line = line
	err := c.decode(line)
	return c.c.mark(), err
}

func (c *copier) Accept() {
	c.state.Lines = append(append(c.state.Lines, c.line...), '\n')
	c.state.Count++
}

// A replayer takes lines from the journal and keeps nothing.
type replayer struct {
	decoder
	each func(c *commit)
}

func (r *replayer) Decode(line []byte) (journal.Mark, error) {
	err := r.decode(line)
	return r.c.mark(), err
}

func (r *replayer) Accept() { r.each(&r.c) }
