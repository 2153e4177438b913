package board

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
)

var (
	// ErrUnreachable is returned when no server answers, when it says that
	// it can't at present, or when the time limit passes.
	ErrUnreachable = wire.ErrUnreachable
	// ErrForbidden is returned when the server refuses who asks.
	ErrForbidden = wire.ErrForbidden
	// ErrUndeclared is returned for a write on a name that nobody declared, where the
	// list of declared keys is closed.
	ErrUndeclared = rules.ErrUndeclared
	// ErrQuota is returned for what would make the board larger than it may be.
	ErrQuota = rules.ErrQuota
	// ErrTooLate is returned for a write of which neither this app nor the server knows
	// any more whether it was done when it was sent first.
	ErrTooLate = rules.ErrTooLate
	// ErrLink is returned by Join for a link that is none.
	ErrLink = errors.New("no link to a board")
)

// An Error says what was tried on which board, and how the server or the
// network refused it. errors.Is finds in it the errors of this package, and
// pantry.ErrAbsent, ErrWrongKind, ErrInvalid, ErrConflict, ErrTooLarge and ErrClosed.
type Error struct {
	Code       string        // the server's, such as "wrong-kind"; "unreachable" where none answered
	Op         string        // "set", "add", …
	Board      string        // empty where it is about the server
	Name       string        // of the entry; empty where it is about the board
	Index      int           // of the op of a Commit that was refused; -1: it is about no single one
	Sentence   string        // for people
	RetryAfter time.Duration // when the server says so
	Err        error
}

// Error tells it in one line.
func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(e.Op)
	if e.Name != "" {
		fmt.Fprintf(&b, " %s on", e.Name)
	}
	if e.Board == "" {
		fmt.Fprintf(&b, " boards: %s", e.Sentence)
	} else {
		fmt.Fprintf(&b, " board %s: %s", e.Board, e.Sentence)
	}
	return b.String()
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// fromAnswer makes an error of an answer that is none of those expected.
func fromAnswer(resp *http.Response, body []byte) *Error {
	e := &Error{Index: -1}
	if p, err := wire.ReadProblem(body); err == nil {
		e.Code, e.Sentence, e.Err, e.Index = string(p.Code), p.Detail, wire.ErrorOf(p.Code), p.Op
	} else {
		e.Code = "unexpected"
		e.Sentence = fmt.Sprintf("the answer is %s and no answer of a board; is the address right?", resp.Status)
	}
	if e.Err == nil {
		e.Err = errors.New(e.Code)
	}
	if s, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil {
		e.RetryAfter = time.Duration(s) * time.Second
	}
	return e
}
