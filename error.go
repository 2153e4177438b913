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

// Errors of this package, for errors.Is. Each is wrapped in an *Error.
var (
	// ErrClosed is returned for a write to a closed namespace, or through a batch whose Commit has
	// ended.
	ErrClosed = ledger.ErrClosed
	// ErrWrongKind is returned if the stored value has another kind than the key and does not
	// convert exactly.
	ErrWrongKind = value.ErrWrongKind
	// ErrInvalid is returned if a value breaks the key's rules, is out of its type's range, or
	// can't be stored, and for a bad name.
	ErrInvalid = value.ErrInvalid
	// ErrTooLarge is returned for a value of over 1 MiB of JSON.
	ErrTooLarge = ledger.ErrTooLarge
	// ErrConflict is returned if the condition of a write does not hold: the entry has another
	// version, or exists already.
	ErrConflict = entry.ErrConflict
	// ErrAbsent is returned if something that a call needs does not exist, for example by
	// Records.Update.
	ErrAbsent = value.ErrAbsent
	// ErrSealed is returned for a sealed value that can't be opened, and for a sealed key in a
	// namespace without Seal.
	ErrSealed = errors.New("sealed")
	// ErrBusy is returned if another process held the file's lock for over 5 s, or earlier commits
	// took that long. Nothing was stored.
	ErrBusy = journal.ErrBusy
	// ErrReadOnly is returned for a write to a namespace that was opened with ReadOnly.
	ErrReadOnly = ledger.ErrReadOnly
	// ErrNotStored is returned if the disk refused a write and certainly nothing of it was stored.
	ErrNotStored = ledger.ErrNotStored
	// ErrUncertain is returned if the disk failed during a write. The write is not stored as far as
	// this program can know, but it can reappear after a power cut.
	ErrUncertain = ledger.ErrUncertain
	// ErrDamaged is returned if bytes are missing that were synced. The error names the line and
	// the offset.
	ErrDamaged = errors.New("damaged")
	// ErrTooOld is returned for a version that the file no longer holds.
	ErrTooOld = ledger.ErrTooOld
	// ErrNewer is returned for a file that a newer program wrote.
	ErrNewer = errors.New("written by a newer program")
)

// An Error names the failed operation, its object and the cause.
type Error struct {
	Op    string     // "set", "open", …
	Place string     // the namespace
	Name  string     // the entry; empty if the error is about the whole namespace
	Got   value.Kind // with ErrWrongKind: the kind of the stored value
	Want  value.Kind // with ErrWrongKind: the kind of the key
	Err   error
}

// Error returns all of it in one line.
func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(e.Op)
	if e.Name != "" {
		fmt.Fprintf(&b, " %s in", e.Name)
	}
	fmt.Fprintf(&b, " %s: %v", e.Place, e.Err)
	return b.String()
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// wrap wraps err in an *Error and adds the sentinels of this package. It returns an *Error
// unchanged.
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

// misuse panics because of a programmer's mistake and names the remedy.
func misuse(format string, args ...any) {
	panic("pantry: " + fmt.Sprintf(format, args...))
}

// callerError carries an error of a caller's own function, which is returned unchanged.
type callerError struct{ error }

func (e callerError) Unwrap() error { return e.error }

func isCaller(err error) bool {
	_, ok := err.(callerError)
	return ok
}
