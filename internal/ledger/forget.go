package ledger

import (
	"github.com/small-pantry/pantry/internal/journal"
)

// Forget erases the old values of names from the file, and the names that hold nothing; without names
// it erases the whole past. The file then has another id. It makes no commit, so a kill in the middle
// leaves the file as it was; Tx.Owe records the duty in a commit. The errors are those of Commit, and
// a *DutyError if the file can't be rewritten.
func (l *Ledger) Forget(names ...string) error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	if names == nil {
		names = []string{}
	}
	l.io.Lock()
	l.duty.add(names)
	l.io.Unlock()
	return l.settleDuty()
}

// alter calls f, which rewrites the log, when everything in the log is known. It calls f again if
// others have written meanwhile.
func (l *Ledger) alter(f func() error) error {
	return l.Locked(func() error {
		err := l.catchUp(l.opts.Wait)
		if err != nil {
			return err
		}
		return l.retryBehind(func() error {
			if err := l.mend(); err != nil {
				return err
			}
			return f()
		})
	})
}

// rewriteWithout rewrites the log without the old values of names. With less it keeps only as much of
// the past as a compaction does.
func (l *Ledger) rewriteWithout(names map[string]bool, less bool) error {
	view, err := l.log.Past(l.head)
	if err != nil {
		return err
	}
	defer view.Close()
	p, err := l.readPast(view)
	if err != nil {
		return err
	}
	p.forget(names)
	l.forgetTaken()
	var c cuts
	if less {
		p.weigh(l.opts.Now(), l.opts.Kept)
		c = p.within(l.opts.KeptBytes)
	} else {
		p.weigh(l.opts.Now(), all)
	}
	now := &Snapshot{in: &l.state, Version: l.Version()} // nothing changes while io is held
	next, err := l.plan(p, c, view, now, l.forgotten())
	if err != nil {
		return err
	}
	if next.End = l.head.End; p.newestChanged() {
		next.End = journal.EndOf(next.Lines)
	}
	return l.put(next, l.opts.Wait)
}

// forgotten returns the header of a file from which something was erased. It has another id, since
// readers of the old file may know what was there.
func (l *Ledger) forgotten() journal.Header {
	header := l.head.Header.WithID(newID())
	header.Oldest = l.Version()
	return header
}

// Renew sets another id of the file, after its content was replaced by other content. Errors are
// those of Commit.
func (l *Ledger) Renew() error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	return l.alter(func() error {
		past, err := l.log.Past(l.head)
		if err != nil {
			return err
		}
		defer past.Close()
		s := State{Header: l.head.Header.WithID(newID()), Version: l.head.Version, End: l.head.End}
		if err := past.Read(&copier{state: &s}); err != nil {
			return err
		}
		l.head, err = l.log.Rewrite(l.head, s, l.opts.Wait)
		if err == nil {
			l.mu.Lock()
			defer l.mu.Unlock()
			l.identify(s.Header.ID)
		}
		return err
	})
}
