package ledger

import (
	"slices"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/sorted"
)

// runs calls each for the runs of lines that become one line.
func (p *past) runs(c cuts, each func(from, to int)) {
	for from := p.start(c); from < len(p.lines); {
		to := from + 1
		if !p.whole(from, c) {
			for to < len(p.lines) && !p.point(to-1, c) && !p.whole(to, c) {
				to++
			}
		}
		each(from, to)
		from = to
	}
}

// asIs reports whether a run is one line that is kept unchanged.
func (p *past) asIs(from, to int) bool { return to == from+1 && !p.lines[from].forgot }

// dropped marks a name that a run has dropped.
const dropped = -1

// merged encodes a run as one line.
func (p *past) merged(dst []byte, from, to int) ([]byte, error) {
	d := &p.decoder
	one := commit{changes: p.kept[:0], schema: -1, closed: -1}
	keys := map[string]entry.Declared{}
	created := map[string]int64{} // Record.First of names, as far as the run has it; dropped if the name holds nothing
	before := p.lines[from].mark.Version - max(p.lines[from].mark.Over, 1)
	single := to == from+1 && p.lines[from].mark.Over == 0 && !p.lines[from].empty
	for i := from; i < to; i++ {
		l := &p.lines[i]
		if err := d.decode(l.raw); err != nil {
			return nil, err
		}
		if single {
			one.By, one.From = d.c.By, d.c.From
			if one.extra = d.c.extra; !l.taken || p.forgets == nil {
				one.receipt = d.c.receipt
			}
		}
		p.mergeChanges(&one, created, i, to, before)
		for _, k := range d.c.keys {
			keys[k.ID()] = k
		}
		one.schema = max(one.schema, d.c.schema)
		if d.c.closed >= 0 {
			one.closed = d.c.closed
		}
		one.Version, one.At = d.c.Version, d.c.At
		one.over += max(l.mark.Over, 1)
		one.end = l.mark.EndOf(l.raw)
	}
	if single {
		one.over, one.end = 0, journal.End{}
	} else {
		one.moved = p.receipts(before, one.Version)
	}
	one.synced = one.Version - 1
	for _, name := range sorted.Keys(keys) {
		one.keys = append(one.keys, keys[name])
	}
	p.kept = one.changes
	return one.appendLine(dst), nil
}

// mergeChanges adds to one the changes of line i, which was decoded, that no later line of the run up to
// line to replaces. before is the version before the run.
func (p *past) mergeChanges(one *commit, created map[string]int64, i, to int, before int64) {
	c := &p.decoder.c
	for k := range c.changes {
		ch, made := p.changes[int(p.lines[i].from)+k], c.changes[k]
		switch {
		case ch.gone:
			created[ch.name] = dropped
		case made.first > 0:
			created[ch.name] = made.first
		case created[ch.name] == dropped:
			created[ch.name] = c.Version
		}
		if int(ch.next) < to || ch.forgot {
			continue
		}
		made.first = created[ch.name]
		if first := p.first(ch.name); p.forgets[ch.name] || made.first <= 0 && first > before {
			made.first = first // the lines that had it are gone, or are in this run
		}
		if made.first > c.Version {
			made.first = 0
		}
		one.changes = append(one.changes, made)
		if c.extra != nil && c.extra.entries[ch.name] != nil {
			one.more().entries[ch.name] = c.extra.entries[ch.name]
		}
	}
}

// write appends the kept lines.
func (p *past) write(dst []byte, c cuts) (lines []byte, count int, err error) {
	lines = slices.Grow(dst, int(p.size(c)))
	p.runs(c, func(from, to int) {
		count++
		switch {
		case err != nil:
		case p.asIs(from, to):
			lines = append(append(lines, p.lines[from].raw...), '\n')
		default:
			lines, err = p.merged(lines, from, to)
		}
	})
	return lines, count, err
}
