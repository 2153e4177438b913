package ledger

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/sorted"
)

// A duty is what commits still owe: the old bytes of names must be erased from the file. The line of
// a commit records it in the member owes. Rewriting the file without these bytes ends it.
type duty struct {
	all   bool            // erase the whole past and every removed name
	names map[string]bool // erase these names' old values, and the names that hold nothing
}

// add adds what a line owes: names, or everything if the list is empty. A nil list owes nothing.
func (d *duty) add(owes []string) {
	switch {
	case owes == nil:
		return
	case len(owes) == 0:
		d.all = true
		return
	case d.names == nil:
		d.names = map[string]bool{}
	}
	for _, name := range owes {
		d.names[name] = true
	}
}

func (d *duty) join(other duty) {
	d.all = d.all || other.all
	if len(other.names) > 0 {
		d.add(slices.Collect(maps.Keys(other.names)))
	}
}

func (d *duty) done() bool { return !d.all && len(d.names) == 0 }

func (d *duty) String() string {
	if d.all {
		return "everything that was removed"
	}
	names := sorted.Keys(d.names)
	if len(names) > 5 {
		names = append(names[:5:5], fmt.Sprintf("%d more", len(names)-5))
	}
	return "the old values of " + strings.Join(names, ", ")
}

// A DutyError reports that old bytes are still in the file although a commit has to erase them. The
// commit itself is stored. The next commits try again.
type DutyError struct {
	Path  string
	Owed  string // what is still in the file
	Cause error
}

func (e *DutyError) Error() string {
	return fmt.Sprintf("%s still holds %s: it could not be rewritten (%v); later writes try again", e.Path, e.Owed, e.Cause)
}

// Unwrap returns the cause.
func (e *DutyError) Unwrap() error { return e.Cause }

// dutyRetry is the time until a failed duty is tried again, unless space was the cause and is
// available earlier.
const dutyRetry = 60 * time.Second

// Owed describes what is still to be erased from the file, or returns "".
func (l *Ledger) Owed() string {
	l.io.Lock()
	defer l.io.Unlock()
	if l.duty.done() {
		return ""
	}
	return l.duty.String()
}

// settleDuty does the duty now. It returns a *DutyError if that fails, and reports it as a problem.
func (l *Ledger) settleDuty() error {
	err := l.alter(func() error { return l.payDuty(true) })
	if err != nil && !errors.As(err, new(*DutyError)) { // it could not begin
		l.io.Lock()
		defer l.io.Unlock()
		err = l.dutyFailed(err)
	}
	return err
}

// payDuty does the duty if there is one. Unless now is set, it waits for the time to try again after
// a failure. The error is ErrBehind, or a *DutyError, which was reported. io and the log must be
// held.
func (l *Ledger) payDuty(now bool) error {
	switch {
	case l.duty.done(), l.opts.ReadOnly:
		return nil
	case !now && time.Now().Before(l.dutyAt) && !(l.dutyFull && l.hasRoom()):
		return nil
	}
	err := l.erase()
	switch {
	case err == nil:
		l.duty = duty{}
		l.warnOfCopies()
		return nil
	case errors.Is(err, ErrBehind):
		return err
	}
	return l.dutyFailed(err)
}

// keepsCopies is a Log that keeps copies of damaged files and torn tails.
type keepsCopies interface {
	Copies() ([]string, error)
	RemoveCopies() ([]string, error)
}

// A CopiesError reports that copies of damaged files can still hold what was erased.
type CopiesError struct{ Paths []string }

func (e *CopiesError) Error() string {
	return "what was erased may still be in " + strings.Join(e.Paths, ", ") + "; use RemoveCopies with Repair, or drop --forget --copies, to remove these copies"
}

// warnOfCopies reports copies beside the log, which erasing does not change.
func (l *Ledger) warnOfCopies() {
	if log, ok := l.log.(keepsCopies); ok {
		if paths, err := log.Copies(); err == nil && len(paths) > 0 {
			l.problem(&CopiesError{paths})
		}
	}
}

// RemoveCopies removes the copies of damaged files beside the log and returns their paths.
func (l *Ledger) RemoveCopies() (paths []string, err error) {
	log, ok := l.log.(keepsCopies)
	if !ok {
		return nil, nil
	}
	err = l.Locked(func() error {
		paths, err = log.RemoveCopies()
		return err
	})
	return paths, err
}

// dutyFailed reports a failure and sets the time of the next try. io must be held.
func (l *Ledger) dutyFailed(cause error) error {
	l.dutyAt, l.dutyFull = time.Now().Add(dutyRetry), journal.IsFull(cause)
	err := &DutyError{l.Path(), l.duty.String(), cause}
	l.problem(err)
	return err
}

// hasRoom reports whether the disk has room for another copy of the file.
func (l *Ledger) hasRoom() bool {
	free, known := l.free()
	return known && free > l.head.Size
}

// free returns the free space of the log, if that is known.
func (l *Ledger) free() (bytes int64, known bool) {
	if s, ok := l.log.(interface{ Free() (int64, bool) }); ok {
		return s.Free()
	}
	return 0, false
}

// erase rewrites the log without the bytes that are owed. On a full disk it also leaves out what a
// compaction would.
func (l *Ledger) erase() error {
	if l.duty.all {
		return l.rewrite(true)
	}
	err := l.rewriteWithout(l.duty.names, false)
	if journal.IsFull(err) {
		err = l.rewriteWithout(l.duty.names, true)
	}
	return err
}
