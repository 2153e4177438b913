// Package wire declares the messages between a server and its clients, once: the JSON of answers
// and problems, and which code, status and error belong together.
package wire

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/value"
)

var (
	// ErrUnreachable is returned if no server answers, if the server reports that it is
	// unavailable, or if the time limit passes.
	ErrUnreachable = errors.New("the server can't be reached")
	// ErrForbidden is returned if the caller may not do something.
	ErrForbidden = errors.New("not allowed")
	// ErrUnauthorized is returned if the caller has no valid token.
	ErrUnauthorized = fmt.Errorf("%w: no such token", ErrForbidden)
)

// What keeps a store on several nodes from working.
var (
	// ErrNoSpace is returned, with ledger.ErrNotStored, if the nodes have no space left.
	ErrNoSpace = errors.New("no space left")
	// ErrNoMajority is returned, with journal.ErrBusy, if less than most of the nodes work together.
	// Nothing was done.
	ErrNoMajority = refuse.As(journal.ErrBusy, "less than most of the nodes that store the boards work together")
	// ErrNoNode is returned, with journal.ErrBusy, if none of the nodes can be reached.
	// Nothing was done.
	ErrNoNode = refuse.As(journal.ErrBusy, "none of the nodes that store the boards can be reached")
)

// A Code identifies a kind of problem for programs.
type Code string

// The codes of problems that belong to more than one error.
const (
	Invalid     Code = "invalid"
	Internal    Code = "internal"
	Unavailable Code = "unavailable"
)

// A row connects a code, its status, and its Go error. The server uses the first row whose error
// matches. A client converts a code to the error of its row.
type row struct {
	code   Code
	status int
	is     error
	says   string // replaces the error's own text, which only the log has
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
	// Not "unavailable": a client would then send the same request again. It comes before the causes.
	{code: "uncertain", status: http.StatusInternalServerError, is: ledger.ErrUncertain,
		says: "the server can't say whether it was stored; look before writing it again"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: ErrNoSpace, after: 60,
		says: "the nodes that store the boards have no space left, and nothing was stored; the server's operator can make room"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: ErrNoMajority, after: 5,
		says: "most of the nodes that store the boards don't work together at the moment, and nothing was done; try again later"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: ErrNoNode, after: 5,
		says: "the server can't reach the nodes that store the boards, and nothing was done; try again later"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: ledger.ErrNotStored, after: 10,
		says: "the server could not store it, and nothing was stored; try again later"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: ledger.ErrClosed, after: 1,
		says: "the server is about to stop; try again"},
	{code: Unavailable, status: http.StatusServiceUnavailable, is: journal.ErrBusy, after: 1,
		says: "the server is busy; try again"},
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

// errDamaged represents a *journal.DamageError in the table.
var errDamaged = errors.New("damaged")

// rowOf returns the row of an error on the server.
func rowOf(err error) row {
	_, damaged := journal.AsDamage(err)
	for _, r := range table {
		if r.is != nil && errors.Is(err, r.is) || damaged && r.is == errDamaged {
			return r
		}
	}
	return rowNamed(Internal)
}

// rowNamed returns the first row of a code.
func rowNamed(code Code) row {
	for _, r := range table {
		if r.code == code {
			return r
		}
	}
	return row{code: code, status: http.StatusInternalServerError}
}

// ErrorOf returns the Go error of a code, or nil.
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

// ProblemOf returns the problem that reports an error to a client.
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
