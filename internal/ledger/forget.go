package ledger

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/journal"
)

// Forget writes the file anew, with another id, so that nothing stays in it of
// what names held before now, nor of those that were dropped; of all names where
// none is given, and then with no past at all.
func (l *Ledger) Forget(names ...string) error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	return l.anew(func() (err error) {
		if len(names) == 0 {
			err = l.rewrite(true)
		} else {
			err = l.rewriteWithout(names)
		}
		if err != nil {
			return fmt.Errorf("it is done, but the file can't be written anew, and holds what was before: %w", err)
		}
		return nil
	})
}

// anew has f write the log anew when all in it is known, again where others have written
// meanwhile.
func (l *Ledger) anew(f func() error) error {
	return l.Locked(func() error {
		err := l.catchUp(l.opts.Wait)
		if err != nil {
			return err
		}
		return l.insist(func() error {
			if err := l.mend(); err != nil {
				return err
			}
			return f()
		})
	})
}

func (l *Ledger) rewriteWithout(names []string) error {
	view, err := l.log.Past(l.head)
	if err != nil {
		return err
	}
	defer view.Close()
	p, err := l.readPast(view)
	if err != nil {
		return err
	}
	defer p.free()
	p.forget(names)
	l.forgetTaken()
	p.weigh(l.opts.Now(), all)
	now := &Snapshot{l: l, Version: l.Version()} // nothing can change while io is held
	next, err := l.plan(p, cuts{}, view, now, l.forgotten())
	if err != nil {
		return err
	}
	if next.End = l.head.End; p.newestAnew() {
		next.End = journal.EndOf(next.Lines)
	}
	return l.put(next, l.opts.Wait)
}

// forgotten is the header of a file of which something is forgotten: by another
// id, since whoever knows the old one may know what was there.
func (l *Ledger) forgotten() journal.Header {
	header := *l.head.Header
	header.ID, header.Oldest = newID(), l.Version()
	return header
}

// Renew gives the file another id, after what it holds was replaced by what
// did not come from it. Errors are those of Commit.
func (l *Ledger) Renew() error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	return l.anew(func() error {
		past, err := l.log.Past(l.head)
		if err != nil {
			return err
		}
		defer past.Close()
		s := State{Header: *l.head.Header, Version: l.head.Version, End: l.head.End}
		s.Header.ID = newID()
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
