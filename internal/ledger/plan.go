package ledger

import (
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// A plan is the new content of a log.
type plan struct {
	State
	keep    map[string]bool // the names whose nodes stay
	removed removed         // the same, counted
	forgets map[string]bool // names whose old values are erased
}

// plan returns the new file with the kept past up to now. The caller sets State.End.
func (l *Ledger) plan(p *past, c cuts, view Past, now *Snapshot, header journal.Header) (*plan, error) {
	next := &plan{State: State{Header: header, Version: now.Version}, keep: map[string]bool{}, forgets: p.forgets}
	next.Header.Base, next.Header.End = p.baseOf(c, view)
	recs, err := p.stateAt(c, view, now.all("", ""))
	if err != nil {
		return nil, err
	}
	// The commits after the base set their keys and schema again. Before the first commit there are
	// none.
	next.Header.Schema = l.Schema()
	recs = tombstones(recs, &next.Header.Oldest, l.opts.Now())
	state := base{version: next.Header.Base, schema: next.Header.Schema}
	state.kept, next.Header.Receipts = l.keptReceipts(0, state.version, false, l.opts.Now())
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
			next.keep[rec.Name] = true
			next.removed.add(rec.Name, rec.Version)
		}
	}
	return next, nil
}

// put rewrites the log by a plan. io must be held, and Release called afterwards.
func (l *Ledger) put(p *plan, wait time.Duration) (err error) {
	replaced, err := l.replace(p.State, wait)
	if !replaced {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, n := range l.nodes {
		if n.Record().Version > p.Header.Base && !p.forgets[name] {
			p.keep[name] = true
		}
	}
	l.oldest = p.Header.Oldest
	l.identify(p.Header.ID)
	l.forgetNodes(p.keep)
	return err
}
