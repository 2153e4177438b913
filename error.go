package pantry

import (
	"errors"
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// What went wrong, for errors.Is. Each comes wrapped in an *Error.
var (
	// ErrClosed is returned for a write to a namespace that was closed, or
	// through a batch whose Commit has ended.
	ErrClosed = ledger.ErrClosed
	// ErrWrongKind is returned when what is stored is of another kind than
	// the key and does not convert exactly.
	ErrWrongKind = value.ErrWrongKind
	// ErrInvalid is returned when a value breaks the key's own rules, is out
	// of its type's range, or can't be stored; and for a bad name.
	ErrInvalid = value.ErrInvalid
	// ErrTooLarge is returned for a value over 1 MiB of JSON.
	ErrTooLarge = ledger.ErrTooLarge
	// ErrConflict is returned when a condition of a write does not hold: the
	// entry has another version than was asked for, or is there already.
	ErrConflict = entry.ErrConflict
	// ErrAbsent is returned where there is nothing that a call needs: by
	// Records.Update without such a record.
	ErrAbsent = value.ErrAbsent
	// ErrSealed is returned for a sealed value that can't be opened, and for a
	// sealed key in a namespace without Seal.
	ErrSealed = errors.New("sealed")
	// ErrBusy is returned when another process kept the file's lock, or the
	// commits before this one took, over 5 s. Nothing was stored.
	ErrBusy = journal.ErrBusy
	// ErrReadOnly is returned for a write to a namespace opened ReadOnly.
	ErrReadOnly = ledger.ErrReadOnly
	// ErrNotStored is returned when the disk refused a write, and it is
	// certain that nothing of it was stored.
	ErrNotStored = ledger.ErrNotStored
	// ErrUncertain is returned when the disk failed in the middle of a write:
	// it is not stored as far as can be known, but may reappear after a power cut.
	ErrUncertain = ledger.ErrUncertain
	// ErrDamaged is returned when bytes of the file are gone that were
	// promised to stay. The error tells the line and the offset.
	ErrDamaged = errors.New("damaged")
	// ErrTooOld is returned for a version that the file doesn't tell any more.
	ErrTooOld = ledger.ErrTooOld
	// ErrNewer is returned for a file that a newer program wrote.
	ErrNewer = errors.New("written by a newer program")
)

// An Error says what was tried, where, on which entry, and why it failed.
type Error struct {
	Op    string     // "set", "open", …
	Place string     // the namespace
	Name  string     // of the entry; empty where it is about the whole namespace
	Got   value.Kind // with ErrWrongKind: what is stored
	Want  value.Kind // with ErrWrongKind: what the key wants
	Err   error
}

// Error tells all of it in one line.
func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(e.Op)
	if e.Name != "" {
		fmt.Fprintf(&b, " %s in", e.Name)
	}
	fmt.Fprintf(&b, " %s: %v", e.Place, e.Err)
	return b.String()
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// wrap makes an *Error of err, with the sentinels of this package in it. An
// error that is an *Error already stays as it is.
func wrap(op, place, name string, err error) error {
	if err == nil {
		return nil
	}
	if isCaller(err) {
		return errors.Unwrap(err)
	}
	var have *Error
	if errors.As(err, &have) {
		return err
	}
	if _, ok := journal.AsDamage(err); ok {
		err = fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	var newer *journal.NewerError
	if errors.As(err, &newer) {
		err = fmt.Errorf("%w: %w", ErrNewer, err)
	}
	e := &Error{Op: op, Place: place, Name: name, Err: err}
	var kinds *kindMismatch
	if errors.As(err, &kinds) {
		e.Got, e.Want = kinds.got, kinds.want
	}
	return e
}

// misuse ends the program for a mistake in it, with the remedy.
func misuse(format string, args ...any) {
	panic("pantry: " + fmt.Sprintf(format, args...))
}

// callerError carries what a caller's own function returned, which is given
// back as it is.
type callerError struct{ error }

func (e callerError) Unwrap() error { return e.error }

func isCaller(err error) bool {
	_, ok := err.(callerError)
	return ok
}
