package ledger

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/value"
)

// ErrTooOld is returned for a version that the file no longer holds.
var ErrTooOld = errors.New("too old")

// A HistoryQuery selects commits of a history.
type HistoryQuery struct {
	Limit  int                    // maximum number of commits; 0 means all
	Before int64                  // only commits before this version; 0 means all
	Has    func(name string) bool // only changes of these names; nil means all
	Points bool                   // also lines that replace several commits
	Bytes  int                    // maximum bytes of values, but at least one commit; 0 means no limit
}

// History returns the newest commits in the file, newest first: at most limit of them (0 means
// all), and only changes of the names, if there are any.
func (l *Ledger) History(limit int, names ...string) ([]entry.Commit, error) {
	q := HistoryQuery{Limit: limit}
	if len(names) > 0 {
		q.Has = func(name string) bool { return slices.Contains(names, name) }
	}
	out, _, err := l.HistoryOf(q)
	return out, err
}

// HistoryOf returns the newest commits that match the query, newest first. more reports that Bytes
// left out older ones. It reads the log from its end, as far as it must: to the last commit that it
// returns, and on to the commits with the old values.
func (l *Ledger) HistoryOf(q HistoryQuery) (out []entry.Commit, more bool, err error) {
	v, now, err := l.viewNow()
	if err != nil {
		return nil, false, err
	}
	defer v.Close()
	defer now.Release()
	h := history{query: q, base: v.Header().Base, now: now, waiting: map[string][]*entry.Change{}}
	if err := v.Back(h.line); err != nil {
		return nil, false, err
	}
	size := 0
	for i, c := range h.out {
		for _, ch := range c.Changes {
			size += len(ch.Name) + jsonLen(ch.Old) + jsonLen(ch.New)
		}
		if i > 0 && q.Bytes > 0 && size > q.Bytes { // old values count too
			return h.out[:i:i], true, nil
		}
	}
	return h.out, h.more, nil
}

// A history collects commits from lines that come newest first.
type history struct {
	query   HistoryQuery
	base    int64
	now     *Snapshot
	out     []entry.Commit
	waiting map[string][]*entry.Change // changes whose old value is in an older line
	size    int                        // of the values in out
	full    bool                       // out gets no more commits
	more    bool
	d       decoder
}

func (h *history) line(line []byte) (more bool, err error) {
	if err := h.d.decode(line); err != nil {
		return false, &journal.DamageError{Reason: err.Error()}
	}
	c := &h.d.c
	for i := range c.changes {
		h.tell(c.changes[i].name, c.changes[i].val)
	}
	if c.Version > h.base && (c.over == 0 || h.query.Points) && (h.query.Before <= 0 || c.Version < h.query.Before) && !h.full {
		h.add(c)
	}
	return !h.full && c.Version > h.base || len(h.waiting) > 0, nil
}

// tell fills in the old value of newer changes.
func (h *history) tell(name string, v value.Value) {
	changes := h.waiting[name]
	if changes == nil {
		return
	}
	delete(h.waiting, name)
	for _, ch := range changes {
		ch.Old = v
	}
}

// add adds a commit, unless nothing in it matches.
func (h *history) add(c *commit) {
	p := entry.Commit{Version: c.Version, Time: c.Time(), By: c.By, From: c.From, Over: c.over}
	size := 0
	for _, ch := range c.changes {
		if h.query.Has == nil || h.query.Has(ch.name) {
			p.Changes = append(p.Changes, entry.Change{Name: ch.name, New: ch.val})
			size += len(ch.name) + jsonLen(ch.val)
		}
	}
	switch {
	case len(p.Changes) == 0:
		return
	case h.query.Bytes > 0 && len(h.out) > 0 && h.size+size > h.query.Bytes:
		h.full, h.more = true, true
		return
	}
	h.size += size
	for i := range p.Changes {
		// Nothing was stored before the commit that created the name.
		if rec := h.now.Record(p.Changes[i].Name); rec.Version != c.Version || rec.First != c.Version {
			h.waiting[p.Changes[i].Name] = append(h.waiting[p.Changes[i].Name], &p.Changes[i])
		}
	}
	h.out = append(h.out, p)
	h.full = h.query.Limit > 0 && len(h.out) == h.query.Limit
}

func jsonLen(v value.Value) int {
	if v.IsZero() {
		return 0
	}
	return v.JSONLen()
}

// At returns the entries as they were at a version, by name. The error is ErrTooOld if the file
// does not hold that version.
func (l *Ledger) At(version int64) ([]entry.Entry, error) {
	v, now, err := l.viewNow()
	if err != nil {
		return nil, err
	}
	defer v.Close()
	defer now.Release()
	return at(v, now, version)
}

// AtTime returns the entries as they were at a time, by name, and the newest version at that time: that
// of the last commit that is kept and has no later time. The error is ErrTooOld if none is kept.
func (l *Ledger) AtTime(t time.Time) (entries []entry.Entry, version int64, err error) {
	v, now, err := l.viewNow()
	if err != nil {
		return nil, 0, err
	}
	defer v.Close()
	defer now.Release()
	base, ms := v.Header().Base, t.UnixMilli()
	version = -1
	oldest := int64(math.MaxInt64)
	var d decoder
	err = v.Back(func(line []byte) (more bool, err error) {
		if err := d.decode(line); err != nil {
			return false, &journal.DamageError{Reason: err.Error()}
		}
		c := &d.c
		switch {
		case c.Version < base, c.Version == base && c.At == 0: // the base has no time
			return false, nil
		case c.At <= ms:
			version = c.Version
			return false, nil
		}
		oldest = min(oldest, c.At)
		return true, nil
	})
	if err != nil {
		return nil, 0, err
	}
	if version < 0 && base == 0 {
		version = 0 // before the first commit there was nothing
	}
	if version < 0 {
		since := ""
		if oldest < math.MaxInt64 {
			since = "; the file has it from " + entry.FormatTime(time.UnixMilli(oldest)) + " on"
		}
		return nil, 0, fmt.Errorf("%w: the state at %s is not kept%s", ErrTooOld, entry.FormatTime(t), since)
	}
	entries, err = at(v, now, version)
	return entries, version, err
}

// at returns the entries of a view as they were at a version. What has not changed since is in now.
func at(v Past, now *Snapshot, version int64) ([]entry.Entry, error) {
	base := v.Header().Base
	if newest := v.Version(); version < base || version > newest {
		return nil, fmt.Errorf("%w: version %d is not kept; the file has versions %d to %d", ErrTooOld, version, base, newest)
	}
	recs := map[string]*Record{}
	open := map[string]bool{} // changed since: the value is in an older line, or there was none
	within := false           // the version is inside a line that replaces several commits
	var d decoder
	err := v.Back(func(line []byte) (more bool, err error) {
		if err := d.decode(line); err != nil {
			return false, &journal.DamageError{Reason: err.Error()}
		}
		c := &d.c
		if c.Version > version {
			within = within || version > c.Version-c.over
			for _, ch := range c.changes {
				open[ch.name] = true
			}
			return !within, nil
		}
		stamp := c.Stamp
		for _, ch := range c.changes {
			if open[ch.name] {
				delete(open, ch.name)
				recs[ch.name] = &Record{Value: ch.val, Stamp: &stamp}
			}
		}
		return len(open) > 0, nil
	})
	switch {
	case err != nil:
		return nil, err
	case within:
		return nil, fmt.Errorf("%w: version %d is not kept: the file has only the net change of the commits around it", ErrTooOld, version)
	}
	for e := range now.Entries("", "") {
		if e.Version <= version {
			recs[e.Name] = e.Record
		}
	}
	var out []entry.Entry
	for _, name := range sorted.Keys(recs) {
		if recs[name].Found() {
			out = append(out, Named{name, recs[name]}.Entry())
		}
	}
	return out, nil
}

// viewNow returns the log and the state as they are now, to be read while others write.
func (l *Ledger) viewNow() (Past, *Snapshot, error) {
	l.io.Lock()
	defer l.io.Unlock()
	if l.Closed() {
		return nil, nil, ErrClosed
	}
	if err := l.follow(l.opts.Wait); err != nil {
		return nil, nil, err
	}
	v, err := l.log.Past(l.head)
	if err != nil {
		return nil, nil, err
	}
	return v, l.Snapshot(), nil
}

// A copier copies lines unchanged.
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

// A replayer passes each commit of a log to each, from the first.
type replayer struct {
	decoder
	each func(c *commit)
}

func (r *replayer) Decode(line []byte) (journal.Mark, error) {
	err := r.decode(line)
	return r.c.mark(), err
}

func (r *replayer) Accept() { r.each(&r.c) }
