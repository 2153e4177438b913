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
	// ErrUnreachable is returned if no server answers, the server is unavailable, or the time limit
	// passes. The change may have been stored.
	ErrUnreachable = wire.ErrUnreachable
	// ErrForbidden is returned if the server refuses the link.
	ErrForbidden = wire.ErrForbidden
	// ErrUndeclared is returned for a write to an undeclared name if the list of declared keys is
	// closed.
	ErrUndeclared = rules.ErrUndeclared
	// ErrQuota is returned for a change that would exceed a limit of the board.
	ErrQuota = rules.ErrQuota
	// ErrTooLate is returned for a repeated write if neither the app nor the server still knows
	// whether the first attempt was done.
	ErrTooLate = rules.ErrTooLate
	// ErrUncertain is returned if the change may have been stored: the server can't say, or it did not
	// answer one attempt and refused to look at the next.
	ErrUncertain = pantry.ErrUncertain
	// ErrQueued is returned, with Offline, for a change that could not be sent. It is queued on the
	// device, also over a relaunch, and sent when the server is reached. It is not stored on the
	// board yet.
	ErrQueued = errors.New("queued")
	// ErrLink is returned by Join for an invalid link.
	ErrLink = errors.New("no link to a board")
)

// An Error describes what was tried on which board, and why the server or the network refused it.
// errors.Is finds in it the errors of this package, and pantry.ErrAbsent, ErrWrongKind, ErrInvalid,
// ErrConflict, ErrTooLarge and ErrClosed.
type Error struct {
	Code       string        // the server's, such as "wrong-kind"; "unreachable" if no server answered
	Op         string        // "set", "add", …
	Board      string        // "" if the error is about the server
	Name       string        // of the entry; "" if the error is about the board
	Index      int           // of the refused op of a Commit; -1 if it is about no single op
	Sentence   string        // for people
	RetryAfter time.Duration // from Retry-After
	Err        error

	entry *entry.Entry // with conflict: the stored entry, if there is one
	near  []string     // with absent: names that the requested one nearly matches
	maybe bool         // an earlier attempt may have arrived
	read  bool         // the call changes nothing
}

// Error returns the error in one line.
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

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// UserSentence returns the sentence for a user of the app: see pantry.Sentence.
func (e *Error) UserSentence() string {
	const uncertain = "The connection broke off: your change may have been stored. Look at it before you try again."
	if e.read && unsure(e) {
		return "No connection to the board. Try again in a while."
	}
	switch e.Code {
	case "conflict":
		return e.conflict()
	case "queued":
		return "No connection: your change is saved and will be sent later."
	case "unreachable", "unavailable", "rate-limited", "unexpected":
		if e.maybe {
			return uncertain
		}
		return "No connection to the board: your change was not stored. Try again in a while."
	case "uncertain", "too-late":
		return uncertain
	case "forbidden", "unauthorized":
		return "This link may not do that. Ask the owner of the board for one that may."
	case "quota":
		return "The board is full. Ask its owner to make room."
	case "closed":
		return "The board is closed."
	}
	var worded interface{ UserSentence() string }
	if errors.As(e.Err, &worded) {
		return worded.UserSentence()
	}
	if sentence, ok := pantry.Sentence(e.Err); ok {
		return sentence
	}
	return e.Sentence
}

// conflict says who stored what instead.
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

// ofRead returns e as the error of a call that changes nothing.
func (e *Error) ofRead() *Error {
	copied := *e
	copied.read = true
	return &copied
}

// afterMaybe returns e as the error of a call that an earlier attempt may have executed. A server
// that refuses to look at the last attempt says nothing about the earlier one.
func (e *Error) afterMaybe() *Error {
	copied := *e
	copied.maybe = true
	switch e.Code {
	case "unavailable", "rate-limited":
		copied.Code, copied.Err = "uncertain", errors.Join(e.Err, ErrUncertain)
		copied.Sentence = e.Sentence + "; the change may have been made by an earlier attempt"
	}
	return &copied
}

// fromAnswer makes an error of an unexpected answer. An answer that no board server sent does not
// say what the server did: from 500 on the outcome is uncertain.
func fromAnswer(resp *http.Response, body []byte) *Error {
	e := &Error{Index: -1}
	p, err := wire.ReadProblem(body)
	if media, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";"); strings.TrimSpace(media) != "application/problem+json" {
		err = errNotProblem
	}
	switch {
	case err == nil:
		e.Code, e.Sentence, e.Err, e.Index = string(p.Code), p.Detail, wire.ErrorOf(p.Code), p.Op
		e.entry, e.near = p.Entry, p.Near
	case resp.StatusCode == http.StatusTooManyRequests:
		e.Code, e.Err = "rate-limited", ErrUnreachable
		e.Sentence = fmt.Sprintf("something between here and the board answers %s", resp.Status)
	case resp.StatusCode >= http.StatusInternalServerError:
		e.Code, e.Err = "uncertain", errors.Join(ErrUnreachable, ErrUncertain)
		e.Sentence = fmt.Sprintf("something between here and the board answers %s", resp.Status)
	default:
		e.Code = "unexpected"
		e.Sentence = fmt.Sprintf("the answer is %s, and not from a board server; is the address right?", resp.Status)
	}
	if e.Err == nil {
		e.Err = errors.New(e.Code)
	}
	e.RetryAfter = retryAfter(resp.Header.Get("Retry-After"), time.Now())
	return e
}

// retryAfter reads a Retry-After header (RFC 9110, 10.2.3): seconds or a date.
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

// codeOf returns the code of an error, or "".
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

// sentenceOf returns the sentence of an error.
func sentenceOf(err error) string {
	if e := (*Error)(nil); errors.As(err, &e) {
		return e.Sentence
	}
	return err.Error()
}

// unsure reports whether a write may or may not have arrived, so that it can be sent again under
// its key.
func unsure(err error) bool {
	switch codeOf(err) {
	case "unreachable", "uncertain", "unavailable", "rate-limited", "unexpected":
		return true
	}
	return false
}
