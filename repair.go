package pantry

import (
	"errors"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

// A Report tells what Repair, or Open of a damaged file, found and did. It is
// in the Problem that Open reports, for errors.As.
type Report struct {
	Path    string // the namespace's file
	Damaged bool   // bytes were gone that were promised to stay
	Copy    string // where the file, or a torn end with whole lines, is kept as it was; empty: nowhere
	Lost    []Lost
	Entries int // how many entries there are now; with Damaged false, 0
}

// A Lost is a stretch of the file that could not be read.
type Lost struct {
	Line   int   // where it starts, from 1
	Offset int64 // the same, in bytes
	Bytes  int
	Reason string
}

// A DamageError is the error in a Problem for a damaged file.
type DamageError struct {
	Report
	err error
}

// Error tells what was damaged, lost and kept, in one line.
func (e *DamageError) Error() string { return e.err.Error() }

// Unwrap gives ErrDamaged.
func (e *DamageError) Unwrap() []error { return []error{ErrDamaged, e.err} }

// asReport gives the error that a Problem has for what a ledger survived.
func asReport(err error) error {
	var d *ledger.Damage
	if !errors.As(err, &d) {
		return err
	}
	return &DamageError{reportOf(d), err}
}

func reportOf(d *ledger.Damage) Report {
	r := Report{Path: d.Path, Damaged: true, Copy: d.Copy, Entries: d.Entries}
	for _, l := range d.Lost {
		r.Lost = append(r.Lost, Lost(l))
	}
	return r
}

// Repair does by hand what Open does by itself: where the file of a namespace
// is damaged, it keeps it beside as NAME.damaged-TIME, writes every intact entry
// to a fresh one, and tells what was lost; a torn end, which is no damage, is
// cut. A file in good health stays as it is. The namespace may be open meanwhile.
//
// The errors are ErrInvalid for a bad name, fs.ErrNotExist where there is no
// file, ErrBusy, ErrNewer, and the file system's own.
func Repair(dir, name string) (Report, error) {
	if err := CheckNamespace(name); err != nil {
		return Report{}, wrap("repair", name, "", err)
	}
	path := journal.DataPath(dir, name)
	if _, err := journal.OS.Look(path); err != nil {
		return Report{}, wrap("repair", name, "", err)
	}
	damage, cut, err := ledger.Mend(dir, name, ledger.Options{})
	r := Report{Path: path}
	switch {
	case err != nil:
		return r, wrap("repair", name, "", err)
	case damage != nil:
		return reportOf(damage), nil
	case cut != nil:
		r.Copy = cut.Copied
		r.Lost = []Lost{{Line: cut.Tail.Line, Offset: cut.Tail.Offset, Bytes: len(cut.Tail.Bytes), Reason: cut.Tail.Reason}}
	}
	return r, nil
}
