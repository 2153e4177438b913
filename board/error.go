package board

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
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
	// ErrUncertain is returned where the server can't say whether it was done, and this
	// Board has found out no better.
	ErrUncertain = pantry.ErrUncertain
	// ErrQueued is returned, with Offline, for a change that could not be sent and is
	// queued: it is kept over a relaunch, and sent when the server is reached. It is not
	// stored yet.
	ErrQueued = errors.New("queued")
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

	entry *Entry // with conflict: what is stored, if anything is
	maybe bool   // an attempt before the last one may have arrived
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

// UserSentence returns the sentence for a user of the app: see pantry.Sentence.
func (e *Error) UserSentence() string {
	switch e.Code {
	case "conflict":
		return e.conflict()
	case "queued":
		return "No connection: your change is saved and will be sent later."
	case "unreachable", "unavailable", "rate-limited", "unexpected":
		return "No connection to the board: your change was not stored. Try again in a while."
	case "uncertain", "too-late":
		return "The connection broke off: your change may have been stored. Look at it before you try again."
	case "forbidden", "unauthorized":
		return "This link may not do that. Ask the owner of the board for one that may."
	case "quota":
		return "The board is full. Ask its owner to make room."
	case "closed":
		return "The board is closed."
	}
	var told interface{ UserSentence() string }
	if errors.As(e.Err, &told) {
		return told.UserSentence()
	}
	if sentence, ok := pantry.Sentence(e.Err); ok {
		return sentence
	}
	return e.Sentence
}

// conflict tells who stored what instead.
func (e *Error) conflict() string {
	if e.entry == nil {
		return fmt.Sprintf("Somebody removed %s meanwhile. Your change was not stored.", e.Name)
	}
	shown := "changed " + e.entry.Name
	if text := entry.Quoted(e.entry.Value); len(text) <= 40 {
		shown += " to " + text
	}
	return fmt.Sprintf("%s %s at %s. Your change was not stored.", orSomebody(e.entry.By), shown, e.entry.Updated.Local().Format("15:04"))
}

// fromAnswer makes an error of an answer that is none of those expected. One that is no
// board's says nothing of what a server behind it did: from 500 on it is uncertain.
func fromAnswer(resp *http.Response, body []byte) *Error {
	e := &Error{Index: -1}
	p, err := wire.ReadProblem(body)
	if media, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";"); strings.TrimSpace(media) != "application/problem+json" {
		err = errNotProblem
	}
	switch {
	case err == nil:
		e.Code, e.Sentence, e.Err, e.Index = string(p.Code), p.Detail, wire.ErrorOf(p.Code), p.Op
		e.entry = p.Entry
	case resp.StatusCode == http.StatusTooManyRequests:
		e.Code, e.Err = "rate-limited", ErrUnreachable
		e.Sentence = fmt.Sprintf("something before the board answers %s", resp.Status)
	case resp.StatusCode >= http.StatusInternalServerError:
		e.Code, e.Err = "uncertain", errors.Join(ErrUnreachable, ErrUncertain)
		e.Sentence = fmt.Sprintf("something before the board answers %s", resp.Status)
	default:
		e.Code = "unexpected"
		e.Sentence = fmt.Sprintf("the answer is %s and no answer of a board; is the address right?", resp.Status)
	}
	if e.Err == nil {
		e.Err = errors.New(e.Code)
	}
	e.RetryAfter = retryAfter(resp.Header.Get("Retry-After"), time.Now())
	return e
}

// retryAfter reads a Retry-After (RFC 9110, 10.2.3): seconds or a date.
func retryAfter(s string, now time.Time) time.Duration {
	if seconds, err := strconv.Atoi(s); err == nil {
		return max(time.Duration(seconds)*time.Second, 0)
	}
	if at, err := http.ParseTime(s); err == nil {
		return max(at.Sub(now), 0)
	}
	return 0
}

var errNotProblem = errors.New("the answer is not a problem of a board")

// codeOf gives the code of an error; empty: there is none.
func codeOf(err error) string {
	var e *Error
	switch {
	case err == nil:
		return ""
	case errors.As(err, &e):
		return e.Code
	}
	return "unexpected"
}

// sentenceOf gives what an error tells people.
func sentenceOf(err error) string {
	if e := (*Error)(nil); errors.As(err, &e) {
		return e.Sentence
	}
	return err.Error()
}

// unsure says that a write may not have arrived, or that it is not known whether it did: it
// may be sent again under its key.
func unsure(err error) bool {
	switch codeOf(err) {
	case "unreachable", "uncertain", "unavailable", "rate-limited", "unexpected":
		return true
	}
	return false
}
