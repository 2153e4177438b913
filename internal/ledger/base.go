package ledger

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/sorted"
)

// A base holds what the first lines of a file contain besides records.
type base struct {
	version int64
	schema  int64
	keys    []entry.Declared
	closed  bool
	kept    []*Receipt
}

// lines encodes records and the rest of a base as the first lines of a file: one for each version
// that still has a record, in order, and one at the base's version for the rest. n is their number.
func (s base) lines(recs []Named) (lines []byte, count int) {
	sorted.By(recs, func(a, b *Named) int {
		if a.Version != b.Version {
			return int(a.Version - b.Version)
		}
		return strings.Compare(a.Name, b.Name)
	})
	for more := len(s.keys) > 0 || s.closed || len(s.kept) > 0; len(recs) > 0 || more; {
		c := commit{schema: -1, closed: -1}
		if count == 0 && s.schema > 0 {
			c.schema = s.schema
		}
		if len(recs) > 0 {
			c.Stamp = *recs[0].Stamp
			for len(recs) > 0 && recs[0].Version == c.Version {
				c.changes = append(c.changes, change{name: recs[0].Name, val: recs[0].Value, first: recs[0].First})
				recs = recs[1:]
			}
		} else {
			c.Version = s.version
		}
		if c.Version == s.version {
			c.keys, c.moved, more = s.keys, s.kept, false
			if s.closed {
				c.closed = 1
			}
		}
		c.synced = c.Version - 1
		lines = c.appendLine(lines)
		count++
	}
	return lines, count
}

// baseOf returns the version before the first kept line, and the End of its commit. view is the log
// that the past was read from.
func (p *past) baseOf(c cuts, view Past) (base int64, end journal.End) {
	start := p.start(c)
	if start == 0 {
		return view.Header().Base, view.Header().End
	}
	l := &p.lines[start-1]
	return l.mark.Version, l.mark.EndOf(l.raw)
}

// stateAt returns all records, including those of removed names, as of the first kept line. For
// names that the kept lines change it reads the lines before, and finally those of the base of
// view. All others are as they are now.
func (p *past) stateAt(c cuts, view Past, now func(yield func(Named) bool)) ([]Named, error) {
	start := p.start(c)
	changed := map[string]*Record{} // changed after the start, with the record at the start, or nil
	missing := 0                    // not in the lines before the start
	if start < len(p.lines) {
		for _, ch := range p.changes[p.lines[start].from:] {
			if _, known := changed[ch.name]; !known {
				changed[ch.name] = nil
				missing++
			}
		}
	}
	var d decoder
	for i := range start {
		l := &p.lines[i]
		if !slices.ContainsFunc(p.changes[l.from:l.to], func(ch pastChange) bool { return start <= int(ch.next) && int(ch.next) < len(p.lines) }) {
			continue
		}
		if err := d.decode(l.raw); err != nil {
			return nil, err
		}
		stamp := d.c.Stamp
		for k, ch := range d.c.changes {
			if next := int(p.changes[int(l.from)+k].next); start <= next && next < len(p.lines) {
				missing--
				if !p.changes[int(l.from)+k].forgot {
					changed[ch.name] = &Record{Value: ch.val, Stamp: &stamp}
				}
			}
		}
	}
	if missing > 0 {
		if err := p.readBase(view, changed); err != nil {
			return nil, err
		}
	}
	var recs []Named
	for e := range now {
		rec, was := changed[e.Name]
		if !was {
			rec = e.Record
		} else if rec != nil {
			rec.First = rec.Version
			if e.Found() && e.First <= rec.Version { // continuously since
				rec.First = e.First
			}
		}
		if rec != nil {
			recs = append(recs, Named{e.Name, rec})
		}
	}
	return recs, nil
}

// readBase reads from the state at the beginning of the file the records that changed lacks.
func (p *past) readBase(view Past, changed map[string]*Record) error {
	header := view.Header()
	if header.Lines == 0 {
		return nil
	}
	return view.Read(&replayer{each: func(c *commit) {
		if c.Version > header.Base {
			return
		}
		stamp := c.Stamp
		for _, ch := range c.changes {
			if rec, wanted := changed[ch.name]; wanted && rec == nil && !p.forgets[ch.name] {
				changed[ch.name] = &Record{Value: ch.val, Stamp: &stamp}
			}
		}
	}})
}

// tombstones drops the names that were removed long ago, and the oldest of too many. It raises
// oldest to the newest dropped version: changes can be reported only from there on.
func tombstones(recs []Named, oldest *int64, now time.Time) []Named {
	since := now.Add(-keptGoneDays * 24 * time.Hour).UnixMilli()
	var kept, gone []Named
	for _, e := range recs {
		switch {
		case e.Found():
			kept = append(kept, e)
		case e.Version <= *oldest:
		case e.At >= since:
			gone = append(gone, e)
		default:
			*oldest = max(*oldest, e.Version)
		}
	}
	sorted.By(gone, func(a, b *Named) int { return cmp.Compare(b.Version, a.Version) })
	if len(gone) > keptGone {
		*oldest = max(*oldest, gone[keptGone].Version)
		gone = gone[:keptGone]
	}
	return append(kept, gone...)
}

// removed counts removed names that are still kept. Those removed by one commit share a line.
type removed struct {
	count   int
	bytes   int64 // approximate size
	version int64 // of the commit that removed the last one
}

func (r *removed) add(name string, version int64) {
	const quotes, line = 3, 75 // the comma, and the rest of a line that removes names
	r.count++
	r.bytes += int64(len(name)) + quotes
	if version != r.version {
		r.version, r.bytes = version, r.bytes+line
	}
}
