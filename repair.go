package pantry

import (
	"errors"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

// A Report describes what Repair, or Open of a damaged file, found and did. The Problem that Open
// reports holds one, for errors.As.
type Report struct {
	Path    string // of the data file
	Damaged bool   // synced bytes are missing
	Copy    string // where the damaged file, or a torn end with whole lines, is kept; empty if nothing is
	Lost    []Lost
	Entries int      // the number of saved entries; 0 if Damaged is false
	Removed []string // the copies that RemoveCopies removed
}

// A RepairOption changes what Repair does.
type RepairOption func(*repairOptions)

type repairOptions struct{ removeCopies bool }

// RemoveCopies makes Repair also remove the copies of damaged files and torn ends, which Repair and
// Open keep as NAME.damaged-TIME and NAME.cut-VERSION. They can hold values that Forget and Reset have
// erased from the file.
func RemoveCopies() RepairOption { return func(o *repairOptions) { o.removeCopies = true } }

// A Lost is a stretch of the file that can't be read.
type Lost struct {
	Line   int   // where it starts, from 1
	Offset int64 // where it starts, in bytes
	Bytes  int
	Reason string
}

// A DamageError is the error in a Problem for a damaged file.
type DamageError struct {
	Report
	err error
}

// Error returns in one line what was damaged, lost and kept.
func (e *DamageError) Error() string { return e.err.Error() }

// Unwrap returns ErrDamaged.
func (e *DamageError) Unwrap() []error { return []error{ErrDamaged, e.err} }

// asReport returns the error that a Problem holds for a fault of the ledger.
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

// Repair does by hand what Open does by default. If the file of a namespace is damaged, Repair
// keeps it as NAME.damaged-TIME, writes every intact entry to a new file, and reports what was
// lost. It truncates a torn end, which is no damage. It leaves an intact file unchanged. The
// namespace can be open meanwhile.
//
// The errors are ErrInvalid for a bad name, fs.ErrNotExist if there is no file, ErrBusy, ErrNewer,
// and errors of the file system.
func Repair(dir, name string, opts ...RepairOption) (Report, error) {
	var o repairOptions
	for _, opt := range opts {
		opt(&o)
	}
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
		r = reportOf(damage)
	case cut != nil:
		r.Copy = cut.Copied
		r.Lost = []Lost{{Line: cut.Tail.Line, Offset: cut.Tail.Offset, Bytes: len(cut.Tail.Bytes), Reason: cut.Tail.Reason}}
	}
	if o.removeCopies {
		l, err := ledger.Open(dir, name, ledger.Options{})
		if err == nil {
			r.Removed, err = l.RemoveCopies()
			err = errors.Join(err, l.Close())
		}
		return r, wrap("repair", name, "", err)
	}
	return r, nil
}
