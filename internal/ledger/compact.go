package ledger

import (
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// What a compaction keeps, and when a file is compacted.
const (
	smallFile    = 256 << 10 // smaller files are not compacted (Options.Small)
	spread       = 4         // nor files under this many times what they must keep
	keptCommits  = 200       // Options.Kept
	keptBytes    = 256 << 10 // Options.KeptBytes
	keptGone     = 10_000
	keptGoneDays = 7
)

// compactWait is how long a compaction waits for the lock. A caller waits for it, and the next
// commit can do it as well.
const compactWait = 100 * time.Millisecond

// notBefore returns the size at which a file that was just read is considered for compaction: the
// next of a series in which each is an eighth larger. So a restart does not compact at its first
// commit, and a file with few writes per start is still compacted.
func notBefore(size int64) int64 {
	at := int64(8)
	for at <= size {
		at += at / 8
	}
	return at
}

// dueForCompaction reports whether the file may be far larger than what it must keep. io must be
// held.
func (l *Ledger) dueForCompaction() bool {
	return (l.forced() || l.head.Size > max(l.opts.Small, l.compactAt)) && l.log.MayRewrite() == nil
}

// A rewriting is a compaction in progress. Commits go on while it chooses what to keep.
type rewriting struct {
	now    *Snapshot // the state that it is based on; nil after use
	view   Past
	header *journal.Header
	size   int64 // of the file
	forced bool

	live, receipts int64   // approximate bytes that must be kept
	removed        removed // removed names that must be kept
	past           int64   // of the kept past, once chosen

	since written // written since the start
}

// written holds lines and their number.
type written struct {
	bytes []byte
	count int
}

func (s *written) add(bytes []byte, count int) {
	s.bytes, s.count = append(s.bytes, bytes...), s.count+count
}

// compact rewrites the file with less of its past if it is far larger than what it must keep.
// No caller asked for it, so a failure is only reported. Others can commit while it chooses what to
// keep.
func (l *Ledger) compact() {
	var r *rewriting
	l.exclusively(func() (err error) {
		r, err = l.beginRewriting()
		return err
	})
	if r == nil {
		return
	}
	defer l.endRewriting(r)
	p, err := l.choose(r)
	l.exclusively(func() error {
		if err == nil && p != nil {
			err = l.finishRewriting(r, p)
		}
		if err == nil {
			l.compactAt, l.compacted = r.limit(), l.Version()
		}
		return err
	})
}

// exclusively runs a part of a compaction while no other writer, in this process or another, can write. Close
// waits for it.
func (l *Ledger) exclusively(f func() error) {
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
	case errors.Is(err, ErrBehind), errors.Is(err, journal.ErrBusy): // the next writer can do it
		l.compactAt = size + size/64
	default:
		// Not again until the file has grown by a quarter.
		l.compactAt = size + size/4
		l.problem(fmt.Errorf("%s has %d bytes and could not be compacted: %w", l.Path(), size, err))
	}
}

// forced reports whether Options.Every asks for a compaction, for tests.
func (l *Ledger) forced() bool {
	return l.opts.Every > 0 && l.Version() >= l.compacted+l.opts.Every
}

// limit is the size up to which rewriting is not worth it: four times what must be kept, plus the
// removed names. There can be many.
func (r *rewriting) limit() int64 {
	return spread*(r.live+r.past+r.receipts) + r.removed.bytes
}

// worth reports whether the file is larger than that.
func (r *rewriting) worth() bool { return r.forced || r.size > r.limit() }

// beginRewriting returns a rewriting, or nil if it is not worth it. io and the log must be held.
// endRewriting must follow.
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
	for e := range (&Snapshot{in: &l.state, Version: l.Version()}).all("", "") {
		if e.Found() {
			r.live += sizeOf(e.Name, e.Value) + lineOverhead
		} else if r.removed.count < keptGone { // no more are kept
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

// choose plans the new file, or returns nil if it is not worth it.
func (l *Ledger) choose(r *rewriting) (*plan, error) {
	p, err := l.readPast(r.view)
	if err != nil {
		return nil, err
	}
	p.weigh(l.opts.Now(), l.opts.Kept)
	c := p.within(max(r.live, l.opts.KeptBytes))
	r.past = p.size(c)
	if !r.worth() {
		return nil, nil
	}
	return l.plan(p, c, r.view, r.now, *r.header)
}

// finishRewriting replaces the file by the plan and what was written since. io and the log must be
// held.
func (l *Ledger) finishRewriting(r *rewriting, p *plan) error {
	if l.head.Header != r.header || l.Version() != p.Version+int64(r.since.count) {
		return ErrBehind // the file was replaced
	}
	p.Lines, p.Count, p.Version = append(p.Lines, r.since.bytes...), p.Count+r.since.count, l.Version()
	p.End = l.head.End
	r.now.Release() // so that nodes can be freed
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
		l.problem(fmt.Errorf("%s: close the log after a compaction: %w", l.Path(), err))
	}
}
