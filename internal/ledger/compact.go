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

	live, receipts int64   // about how many bytes must be kept
	removed        removed // and for removed names
	past           int64   // and for what is kept of the past, once that is chosen

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
	p, err := l.choose(r)
	l.alone(func() error {
		if err == nil && p != nil {
			err = l.finishRewriting(r, p)
		}
		if err == nil {
			l.compactAt, l.compacted = r.limit(), l.Version()
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
func (r *rewriting) limit() int64 {
	return spread*(r.live+r.past+r.receipts) + r.removed.bytes
}

// worth says whether the file is larger, as far as is known.
func (r *rewriting) worth() bool { return r.forced || r.size > r.limit() }

// beginRewriting gives what is to be rewritten, if that may be worth it; nil: it is not. io must
// be held, and the log. endRewriting must follow.
func (l *Ledger) beginRewriting() (*rewriting, error) {
	if !l.dueForCompaction() {
		return nil, nil
	}
	if !l.duty.done() { // lines that record it must not be merged; doing it rewrites the file too
		if err := l.payDuty(false); errors.Is(err, ErrBehind) {
			return nil, err
		}
		return nil, nil
	}
	r := &rewriting{header: l.head.Header, size: l.head.Size, forced: l.forced()}
	for e := range (&Snapshot{l: l, Version: l.Version()}).all("", "") {
		if e.Found() {
			r.live += sizeOf(e.Name, e.Value) + lineOverhead
		} else if r.removed.count < keptGone { // no more of them are kept
			r.removed.add(e.Name, e.Version)
		}
	}
	l.mu.RLock()
	r.receipts = l.receipts.bytes
	l.mu.RUnlock()
	if !r.worth() {
		l.compactAt, l.compacted = r.limit(), l.Version()
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

// choose plans the file without what is not kept of its past; nil: it is not worth it.
func (l *Ledger) choose(r *rewriting) (*plan, error) {
	p, err := l.readPast(r.view)
	if err != nil {
		return nil, err
	}
	defer p.free()
	p.weigh(l.opts.Now(), l.opts.Kept)
	c := p.within(max(r.live, l.opts.KeptBytes))
	r.past = p.size(c)
	if !r.worth() {
		return nil, nil
	}
	return l.plan(p, c, r.view, r.now, *r.header)
}

// finishRewriting puts what was planned, and what was written meanwhile, in place of the file. io
// must be held, and the log.
func (l *Ledger) finishRewriting(r *rewriting, p *plan) error {
	if l.head.Header != r.header || l.Version() != p.Version+int64(r.since.count) {
		return ErrBehind // another file stands there
	}
	p.Lines, p.Count, p.Version = append(p.Lines, r.since.bytes...), p.Count+r.since.count, l.Version()
	p.End = l.head.End
	r.now.Release() // so that nodes can go
	r.now = nil
	r.removed = p.removed
	return l.put(p, compactWait)
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
