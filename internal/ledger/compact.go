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

// A rewriting is a compaction on its way: while it is chosen what is kept, commits go on.
type rewriting struct {
	now    *Snapshot // as of which it is chosen; nil once that is done with
	view   Past
	header *journal.Header
	size   int64 // of the file
	forced bool

	live, receipts int64 // about how many bytes must be kept
	gone           int64 // and how many removed names
	past           int64 // and what is kept of the past, once that is chosen

	since written // what was written meanwhile
}

// What was written is lines, and how many they are.
type written struct {
	bytes []byte
	count int
}

func (s *written) add(bytes []byte, count int) {
	s.bytes, s.count = append(s.bytes, bytes...), s.count+count
}

// compact writes the file anew, with less of its past, when it is far larger
// than what it must keep: the state at some version, and the newest commits
// after it as they are. It fails without a word but a Problem, since nobody asked
// for it. Others commit while it is chosen what is kept.
func (l *Ledger) compact() {
	var r *rewriting
	l.alone(func() (err error) {
		r, err = l.beginRewriting()
		return err
	})
	if r == nil {
		return
	}
	defer l.endRewriting(r)
	p, limit, err := l.choose(r)
	l.alone(func() error {
		if err == nil && p != nil {
			limit, err = l.finishRewriting(r, p)
		}
		if err == nil {
			l.compactAt, l.compacted = limit, l.Version()
		}
		return err
	})
}

// alone runs a part of a compaction for which nobody else may write, in this process or
// another. Close waits for it.
func (l *Ledger) alone(f func() error) {
	l.io.Lock()
	defer l.io.Unlock()
	defer l.log.Release()
	err := l.log.Hold(compactWait)
	if err == nil {
		err = l.catchUp(compactWait)
	}
	size := l.head.Size
	if err == nil {
		err = f()
	}
	switch {
	case err == nil:
	case errors.Is(err, ErrBehind), errors.Is(err, journal.ErrBusy): // whoever writes meanwhile may do it
		l.compactAt = size + size/64
	default:
		// Not again until the file has grown by a quarter.
		l.compactAt = size + size/4
		l.problem(fmt.Errorf("%s has %d bytes and could not be compacted: %w", l.Path(), size, err))
	}
}

// forced says whether it is time for a test.
func (l *Ledger) forced() bool {
	return l.opts.Every > 0 && l.Version() >= l.compacted+l.opts.Every
}

// limit is the size up to which it is not worth it to rewrite the file: four times what
// it must keep, but for removed names, of which there may be many.
func (r *rewriting) limit(past, gone int64) int64 {
	return spread*(r.live+past+r.receipts) + gone*lineOverhead
}

// beginRewriting gives what is to be rewritten, if that may be worth it; nil: it is not. io must
// be held, and the log. endRewriting must follow.
func (l *Ledger) beginRewriting() (*rewriting, error) {
	if !l.dueForCompaction() {
		return nil, nil
	}
	r := &rewriting{header: l.head.Header, size: l.head.Size, forced: l.forced()}
	for e := range (&Snapshot{l: l, Version: l.Version()}).all("", "") {
		if e.Found() {
			r.live += sizeOf(e.Name, e.Value) + lineOverhead
		} else if r.gone < keptGone { // no more of them are kept
			r.gone++
		}
	}
	l.mu.RLock()
	r.receipts = l.receipts.bytes
	l.mu.RUnlock()
	if limit := r.limit(0, r.gone); r.size <= limit && !r.forced {
		l.compactAt, l.compacted = limit, l.Version()
		return nil, nil
	}
	view, err := l.log.Past(l.head)
	if err != nil {
		return nil, err
	}
	if view.Version() != l.head.Version {
		return nil, errors.Join(ErrBehind, view.Close())
	}
	r.view, r.now = view, l.Snapshot()
	l.rewriting = r
	return r, nil
}

// choose plans the file without what is not kept of its past, and says up to which size that
// is not worth it: then there is no plan.
func (l *Ledger) choose(r *rewriting) (*plan, int64, error) {
	p, err := l.readPast(r.view)
	if err != nil {
		return nil, 0, err
	}
	p.weigh(l.opts.Now(), l.opts.Kept)
	c := p.within(max(r.live, l.opts.KeptBytes))
	r.past = p.size(c)
	if limit := r.limit(r.past, r.gone); r.size <= limit && !r.forced {
		return nil, limit, nil
	}
	next, err := l.plan(p, c, r.view, r.now, *r.header)
	return next, 0, err
}

// finishRewriting puts what was planned, and what was written meanwhile, in place of the file,
// and says up to which size that is not worth it again. io must be held, and the log.
func (l *Ledger) finishRewriting(r *rewriting, p *plan) (limit int64, err error) {
	if l.head.Header != r.header || l.Version() != p.Version+int64(r.since.count) {
		return 0, ErrBehind // another file stands there
	}
	p.Lines, p.Count, p.Version = append(p.Lines, r.since.bytes...), p.Count+r.since.count, l.Version()
	p.End = l.head.End
	r.now.Release() // so that nodes can go
	r.now = nil
	gone, err := l.put(p, compactWait)
	return r.limit(r.past, gone), err
}

func (l *Ledger) endRewriting(r *rewriting) {
	l.io.Lock()
	l.rewriting = nil
	l.io.Unlock()
	if r.now != nil {
		r.now.Release()
	}
	if err := r.view.Close(); err != nil {
		l.problem(fmt.Errorf("%s: close what was read for compaction: %w", l.Path(), err))
	}
}

// A plan is what a log is to begin with anew.
type plan struct {
	State
	told    map[string]bool // removed names of which its base tells
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
	kept, number, err := p.write(c)
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
	next.Lines, next.Count = append(lines, kept...), n+number
	for _, rec := range recs {
		if !rec.Found() {
			next.told[rec.Name] = true
		}
	}
	return next, nil
}

// put writes the file anew as it was planned, and says how many removed names are told
// of in it; io must be held, and Release called after it.
func (l *Ledger) put(p *plan, wait time.Duration) (gone int64, err error) {
	if l.head, err = l.log.Rewrite(l.head, p.State, wait); err != nil {
		return 0, err
	}
	gone = int64(len(p.told))
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
	return gone, nil
}
