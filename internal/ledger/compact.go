package ledger

import (
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// What a compaction keeps, and from which size on there is one.
const (
	smallFile    = 256 << 10 // no file under it is compacted (Options.Small)
	spread       = 4         // nor one under so many times what it must keep
	keptCommits  = 200       // Options.Kept
	keptBytes    = 256 << 10 // Options.KeptBytes
	keptGone     = 10_000
	keptGoneDays = 7
)

// compactWait is how long a compaction waits for others, since a caller waits for
// it; it can be done after the next commit as well.
const compactWait = 100 * time.Millisecond

// notBefore is the size that a file which was just read must have before it is
// looked at again: the next of a row in which each is an eighth more than the one
// before. So it is not read at the first commit after each start, and yet however
// little is written between two starts.
func notBefore(size int64) int64 {
	at := int64(8)
	for at <= size {
		at += at / 8
	}
	return at
}

// dueForCompaction says whether the file may be far larger than what it must keep; io must be
// held.
func (l *Ledger) dueForCompaction() bool {
	return (l.forced() || l.head.Size > max(l.opts.Small, l.compactAt)) && l.log.MayRewrite() == nil
}

// compact writes the file anew, with less of its past, when it is far larger
// than what it must keep: the state at some version, and the newest commits
// after it as they are. io must be held, and Release called after it. It fails
// without a word but a Problem, since nobody asked for it.
func (l *Ledger) compact() {
	if !l.dueForCompaction() {
		return
	}
	err := l.log.Hold(compactWait)
	if errors.Is(err, journal.ErrBusy) {
		return
	}
	if err == nil {
		err = l.catchUp(compactWait)
	}
	size := l.head.Size
	limit := int64(0)
	if err == nil {
		limit, err = l.shrink(size)
	}
	if err != nil {
		if errors.Is(err, ErrBehind) { // whoever wrote meanwhile may have done it
			l.compactAt = size + size/64
			return
		}
		// Not again until the file has grown by a quarter.
		l.compactAt = size + size/4
		l.problem(fmt.Errorf("%s has %d bytes and could not be compacted: %w", l.Path(), size, err))
		return
	}
	l.compactAt, l.compacted = limit, l.Version()
}

// forced says whether it is time for a test.
func (l *Ledger) forced() bool {
	return l.opts.Every > 0 && l.Version() >= l.compacted+l.opts.Every
}

// shrink rewrites the file if that is worth it, and says up to which size it is
// not: four times what it must keep, but for removed names, of which there may be
// many.
func (l *Ledger) shrink(size int64) (limit int64, err error) {
	var live, gone int64
	for e := range (&Snapshot{l: l, Version: l.Version()}).all("", "") {
		if e.Found() {
			live += sizeOf(e.Name, e.Value) + lineOverhead
		} else if gone < keptGone { // no more of them are kept
			gone++
		}
	}
	l.mu.RLock()
	receipts := l.receipts.bytes
	l.mu.RUnlock()
	upTo := func(keep, gone int64) int64 { return spread*(keep+receipts) + gone*lineOverhead }
	if limit = upTo(live, gone); size <= limit && !l.forced() {
		return limit, nil
	}
	view, err := l.log.Past(l.head)
	if err != nil {
		return 0, err
	}
	defer view.Close()
	p, err := l.readPast(view)
	if err != nil {
		return 0, err
	}
	p.weigh(l.opts.Now(), l.opts.Kept)
	c := p.within(max(live, l.opts.KeptBytes))
	keep := live + p.size(c)
	if limit = upTo(keep, gone); size <= limit && !l.forced() {
		return limit, nil
	}
	kept, err := l.rewriteWith(p, c, view, *l.head.Header, compactWait)
	return upTo(keep, kept), err
}

// rewriteWith writes the file anew with what is kept of the past, and says how
// many removed names are told of in its base.
func (l *Ledger) rewriteWith(p *past, c cuts, view Past, header journal.Header, wait time.Duration) (gone int64, err error) {
	next := State{Header: header, Version: l.Version()}
	next.Header.Base, next.Header.End = p.baseOf(c, view)
	recs, err := p.stateAt(c, view, (&Snapshot{l: l, Version: l.Version()}).all("", ""))
	if err != nil {
		return 0, err
	}
	kept, number, err := p.write(c)
	if err != nil {
		return 0, err
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
	next.Lines, next.Count = append(lines, kept...), n+number
	if l.head, err = l.log.Rewrite(l.head, next, wait); err != nil {
		return 0, err
	}
	told := map[string]bool{} // removed names of which the file still tells
	for _, rec := range recs {
		if !rec.Found() {
			told[rec.Name] = true
		}
	}
	gone = int64(len(told))
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, n := range l.nodes {
		if n.Record().Version > next.Header.Base && !p.forgets[name] {
			told[name] = true
		}
	}
	l.oldest = next.Header.Oldest
	l.identify(next.Header.ID)
	l.forgetNodes(told)
	return gone, nil
}
