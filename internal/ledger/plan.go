package ledger

import (
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// A plan is what a log is to begin with anew.
type plan struct {
	State
	told    map[string]bool // removed names of which its base tells
	removed removed         // the same
	forgets map[string]bool // names of which nothing is told but what they hold now
}

// plan makes the file anew with what is kept of the past, up to now; of the State, End is left
// to the caller.
func (l *Ledger) plan(p *past, c cuts, view Past, now *Snapshot, header journal.Header) (*plan, error) {
	next := &plan{State: State{Header: header, Version: now.Version}, told: map[string]bool{}, forgets: p.forgets}
	next.Header.Base, next.Header.End = p.baseOf(c, view)
	recs, err := p.stateAt(c, view, now.all("", ""))
	if err != nil {
		return nil, err
	}
	// The keys and the schema that commits after the base bring are those
	// that they bring again; before the first commit there are none.
	next.Header.Schema = l.Schema()
	recs = tombstones(recs, &next.Header.Oldest, l.opts.Now())
	state := base{version: next.Header.Base, schema: next.Header.Schema}
	state.kept, next.Header.Receipts = l.keptReceipts(0, state.version, false)
	if next.Header.Base > 0 {
		state.keys, state.closed = l.Keys(), l.KeysClosed()
	}
	lines, n := state.lines(recs)
	next.Header.Lines = int64(n)
	lines, number, err := p.write(lines, c)
	if err != nil {
		return nil, err
	}
	next.Lines, next.Count = lines, n+number
	for _, rec := range recs {
		if !rec.Found() {
			next.told[rec.Name] = true
			next.removed.add(rec.Name, rec.Version)
		}
	}
	return next, nil
}

// put writes the file anew as it was planned; io must be held, and Release called after it.
func (l *Ledger) put(p *plan, wait time.Duration) (err error) {
	replaced, err := l.replace(p.State, wait)
	if !replaced {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, n := range l.nodes {
		if n.Record().Version > p.Header.Base && !p.forgets[name] {
			p.told[name] = true
		}
	}
	l.oldest = p.Header.Oldest
	l.identify(p.Header.ID)
	l.forgetNodes(p.told)
	return err
}
