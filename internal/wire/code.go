// Package wire is what a server and its clients say to one another, once: the
// JSON of answers and problems, and which code, status and error belong together.
package wire

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/value"
)

var (
	// ErrUnreachable is returned when no server answers, when it says that it
	// can't at present, or when the time limit passes.
	ErrUnreachable = errors.New("the server can't be reached")
	// ErrForbidden is returned when the server refuses who asks.
	ErrForbidden = errors.New("not allowed")
	// ErrUnauthorized is returned where whoever asks has no token that counts.
	ErrUnauthorized = fmt.Errorf("%w: no such token", ErrForbidden)
)

// A Code is what a problem is, for a program.
type Code string

// The codes of problems that are about more than one error.
const (
	Invalid     Code = "invalid"
	Internal    Code = "internal"
	Unavailable Code = "unavailable"
)

// A row says what belongs together: a code, its status, and the error that it
// is in Go. Of an error on the server, the first row counts whose error it is;
// a client makes of a code the error of its row.
type row struct {
	code   Code
	status int
	is     error
	says   string // instead of the error's own text, which is for the log
	after  int    // Retry-After, in seconds
}

var table = []row{
	{code: "conflict", status: http.StatusPreconditionFailed, is: entry.ErrConflict},
	{code: "absent", status: http.StatusNotFound, is: value.ErrAbsent},
	{code: "too-old", status: http.StatusNotFound, is: ledger.ErrTooOld},
	{code: "out-of-range", status: http.StatusConflict, is: value.ErrOutOfRange},
	{code: "wrong-kind", status: http.StatusConflict, is: value.ErrWrongKind},
	{code: "too-large", status: http.StatusRequestEntityTooLarge, is: ledger.ErrTooLarge},
	{code: Invalid, status: http.StatusBadRequest, is: value.ErrInvalid},
	{code: "unauthorized", status: http.StatusUnauthorized, is: ErrUnauthorized},
	{code: "forbidden", status: http.StatusForbidden, is: ErrForbidden},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: errDamaged, after: 60,
		says: "the board's file is damaged, so that the server doesn't touch it; its operator can mend it"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: ledger.ErrNotStored, after: 10,
		says: "the server could not store it, and nothing was stored; try again later"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: ledger.ErrClosed, after: 1,
		says: "the server is about to stop; try again"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: journal.ErrBusy, after: 1,
		says: "the server is busy; try again"},
	// Not "unavailable", after which a client may send the same again.
	{code: "uncertain", status: http.StatusInternalServerError, is: ledger.ErrUncertain,
		says: "the server can't say whether it was stored; look before writing it again"},
	{code: "start-again", status: http.StatusConflict, is: rules.ErrStartAgain},
	{code: "undeclared", status: http.StatusConflict, is: rules.ErrUndeclared},
	{code: "quota", status: http.StatusConflict, is: rules.ErrQuota},
	{code: "key-reused", status: http.StatusUnprocessableEntity, is: rules.ErrKeyReused},
	{code: "too-late", status: http.StatusConflict, is: rules.ErrTooLate},
	{code: "rate-limited", status: http.StatusTooManyRequests},
	{code: "no-board", status: http.StatusNotFound},
	{code: "no-route", status: http.StatusNotFound},
	{code: "method", status: http.StatusMethodNotAllowed},
	{code: "unsupported", status: http.StatusUnsupportedMediaType},
	{code: Internal, status: http.StatusInternalServerError, says: "the server failed; its log says how"},
}

// errDamaged stands in the table for a *journal.DamageError.
var errDamaged = errors.New("damaged")

// rowOf gives the row of an error on the server.
func rowOf(err error) row {
	_, damaged := journal.AsDamage(err)
	for _, r := range table {
		if r.is != nil && errors.Is(err, r.is) || damaged && r.is == errDamaged {
			return r
		}
	}
	return rowNamed(Internal)
}

// rowNamed gives the first row of a code.
func rowNamed(code Code) row {
	for _, r := range table {
		if r.code == code {
			return r
		}
	}
	return row{code: code, status: http.StatusInternalServerError}
}

// ErrorOf gives what a code means in Go; nil for one that means nothing there.
func ErrorOf(code Code) error {
	switch r := rowNamed(code); {
	case code == Unavailable, code == "rate-limited":
		return ErrUnreachable
	case code == "no-board":
		return value.ErrAbsent
	default:
		return r.is
	}
}

// ProblemOf gives the problem that an error is for a client.
func ProblemOf(err error) *Problem {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	r := rowOf(err)
	p = &Problem{Code: r.code, Status: r.status, Detail: r.says, RetryAfter: r.after, Op: -1, Err: err}
	if p.Detail == "" {
		p.Detail = err.Error()
	}
	var refused *rules.Refusal
	if errors.As(err, &refused) {
		p.Entry, p.Op = refused.Entry, refused.Edit
	}
	return p
}
