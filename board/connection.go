package board

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// maxAnswer limits the length of an answer: a page has at most 4 MiB, and one more value.
const maxAnswer = 8 << 20

// A connection sends calls to the server of a board. It is safe for concurrent use.
type connection struct {
	link              link
	http              *http.Client
	instance          string // distinguishes the changes of one Board from those of others
	clientName        string
	timeout, patience time.Duration
	ctx               context.Context // ends with Close

	mu    sync.Mutex // guards later
	later time.Time  // no call before it (Retry-After)
}

// A request is one call to the server.
type request struct {
	op, method, path string // the path below the board
	server           bool   // about all boards: there is no path
	query            url.Values
	header           http.Header
	body             []byte
	once             bool          // not repeated: the next one follows anyway
	silence          time.Duration // how long the server can be silent, besides the following
	patient          time.Duration // the time limit otherwise; 0 means the caller's deadline
	// since is the mark of the board at the first attempt, for its repeats; "" means unknown.
	since string
}

// A reply is the server's answer.
type reply struct {
	status int
	header http.Header
	body   []byte
}

// send makes a call. It repeats the call while it certainly was not executed, for the time that
// Patience allows.
func (c *connection) send(ctx context.Context, rq request) (reply, error) {
	if ctx == nil {
		panic("board: a call needs a context, not nil; use context.Background() if there is none")
	}
	if c.ctx.Err() != nil {
		return reply{}, closedByApp()
	}
	if _, has := ctx.Deadline(); !has {
		rq.patient = c.timeout
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(c.ctx, cancel)()
	if rq.once {
		return c.sendOnce(ctx, rq)
	}
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval = 50 * time.Millisecond
	pauses.MaxInterval = time.Second
	var failed error
	first, maybe, from := true, false, time.Now()
	got, err := backoff.Retry(ctx, func() (got reply, err error) {
		if err := c.heed(ctx, c.patience-time.Since(from)); err != nil {
			if failed == nil {
				failed = err
			}
			return got, backoff.Permanent(failed)
		}
		if !first && rq.since != "" {
			rq.header.Set("Idempotency-Since", rq.since)
		}
		first = false
		got, err = c.sendOnce(ctx, rq)
		failed = err
		maybe = maybe || err != nil && !notDone(err)
		var e *Error
		if err != nil && (!errors.As(err, &e) || !repeatable(rq, e)) {
			return got, backoff.Permanent(err)
		}
		return got, err
	}, backoff.WithBackOff(pauses), backoff.WithMaxElapsedTime(c.patience))
	if err != nil && failed != nil {
		err = failed // Retry can return only that the time has passed
	}
	if e := (*Error)(nil); errors.As(err, &e) {
		switch {
		case rq.method == http.MethodGet:
			err = e.ofRead()
		case maybe:
			err = e.afterMaybe()
		}
	}
	return got, err
}

func closedByApp() error {
	return &Error{Index: -1, Code: "closed", Sentence: "the board was closed by this app", Err: pantry.ErrClosed}
}

// longestLater is the maximum Retry-After that is obeyed.
const longestLater = 5 * time.Minute

// delay makes calls wait for the time of Retry-After.
func (c *connection) delay(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if later := time.Now().Add(min(d, longestLater)); later.After(c.later) {
		c.later = later
	}
}

// delayed returns how long calls have to wait.
func (c *connection) delayed() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Until(c.later)
}

// heed waits for the time of Retry-After. If that is longer than the call has, it returns an error.
func (c *connection) heed(ctx context.Context, patience time.Duration) error {
	later := c.delayed()
	if later <= 0 {
		return nil
	}
	deadline, has := ctx.Deadline()
	if later > patience || has && later > time.Until(deadline) {
		return &Error{
			Index: -1, Code: "unavailable", RetryAfter: later, Err: ErrUnreachable,
			Sentence: fmt.Sprintf("the server wants to be asked again in %v, not before", later.Round(time.Second)),
		}
	}
	select {
	case <-time.After(later):
		return nil
	case <-ctx.Done():
		return c.unreachable(ctx.Err())
	}
}

// repeatable reports whether a failed call can be repeated without counting twice: it never reached
// a server, the server answered that it did nothing, it only reads, or it has an idempotency key.
func repeatable(rq request, e *Error) bool {
	switch e.Code {
	case "unexpected": // not an answer of the server; a write with a key can be sent again
		return rq.header.Get("Idempotency-Key") != ""
	case "unreachable", "uncertain":
		return rq.method == http.MethodGet || rq.header.Get("Idempotency-Key") != "" || notDone(e)
	}
	return notDone(e)
}

// notDone reports whether a call was certainly not executed: it never left, or the server says so.
func notDone(err error) bool {
	var e *Error
	if !errors.As(err, &e) || e.maybe {
		return false
	}
	var dial *net.OpError
	switch e.Code {
	case "rate-limited", "unavailable":
		return true
	case "unreachable":
		return errors.As(e.Err, &dial) && dial.Op == "dial"
	}
	return false
}

// request sends a request once.
func (c *connection) request(ctx context.Context, rq request) (*http.Response, error) {
	address := c.link.base + "/v1/boards"
	if !rq.server {
		address += "/" + url.PathEscape(c.link.board) + rq.path
	}
	if len(rq.query) > 0 {
		address += "?" + rq.query.Encode()
	}
	hr, err := http.NewRequestWithContext(ctx, rq.method, address, bytes.NewReader(rq.body))
	if err != nil {
		return nil, err
	}
	// The transport would repeat a request with an Idempotency-Key, and would not report that the
	// first one can have arrived.
	hr.GetBody = nil
	for name, values := range rq.header {
		hr.Header[name] = values
	}
	hr.Header.Set("Client-Instance", c.instance)
	if c.clientName != "" {
		hr.Header.Set("Client-Name", c.clientName)
	}
	if c.link.token != "" {
		hr.Header.Set("Authorization", "Bearer "+c.link.token)
	}
	resp, err := c.http.Do(hr)
	if err != nil {
		return nil, c.unreachable(err)
	}
	return resp, nil
}

func (c *connection) sendOnce(ctx context.Context, rq request) (reply, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	listen := func(time.Duration) {}
	if rq.patient > 0 {
		quiet := time.AfterFunc(rq.patient+rq.silence, func() { cancel(context.DeadlineExceeded) })
		defer quiet.Stop()
		listen = func(d time.Duration) { quiet.Reset(d) }
	}
	resp, err := c.request(ctx, rq)
	if err != nil {
		return reply{}, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(heard{resp.Body, func() { listen(rq.patient) }}, maxAnswer+1))
	if err != nil {
		return reply{}, c.unreachable(cmp.Or(context.Cause(ctx), err))
	}
	if len(body) > maxAnswer {
		return reply{}, &Error{Index: -1, Code: "unexpected", Sentence: fmt.Sprintf("the answer is over %d bytes", maxAnswer), Err: errors.New("answer too long")}
	}
	if resp.StatusCode >= 300 && resp.StatusCode != http.StatusNotModified {
		e := fromAnswer(resp, body)
		if e.RetryAfter > 0 {
			c.delay(e.RetryAfter)
		}
		return reply{}, e
	}
	return reply{resp.StatusCode, resp.Header, body}, nil
}

// heard is a body that reports each piece that arrives.
type heard struct {
	io.Reader
	tell func()
}

func (h heard) Read(p []byte) (int, error) {
	n, err := h.Reader.Read(p)
	h.tell()
	return n, err
}

func (c *connection) unreachable(err error) error {
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err // the message has the address already, and it can be long
	}
	if c.ctx.Err() != nil {
		return closedByApp()
	}
	why := err.Error()
	var dial *net.OpError
	switch {
	case errors.As(err, &dial) && dial.Op == "dial":
		why = dial.Err.Error()
	case errors.Is(err, context.DeadlineExceeded):
		why = "no answer within the time limit"
	case errors.Is(err, context.Canceled):
		return &Error{Index: -1, Code: "unreachable", Sentence: "the app ended the call before the answer came", Err: errors.Join(ErrUnreachable, err)}
	}
	return &Error{Index: -1, Code: "unreachable", Sentence: fmt.Sprintf("%s can't be reached: %s", c.link.base, why), Err: errors.Join(ErrUnreachable, err)}
}

// fail completes an error of a call.
func (c *connection) fail(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var e *Error
	if !errors.As(err, &e) {
		e = &Error{Index: -1, Code: "invalid", Sentence: err.Error(), Err: err}
	}
	whole := *e
	whole.Op, whole.Board, whole.Name = op, c.link.board, name
	return &whole
}

func entryPath(name string) string { return namePath("/entries/", name) }

func namePath(below, name string) string {
	parts := strings.Split(name, "/")
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	return below + strings.Join(parts, "/")
}

// unexpected returns the error for an answer that breaks the protocol, and so is not trusted.
func unexpected(err error) error {
	return &Error{Index: -1, Code: "unexpected", Sentence: "the answer is not what a board answers (" + err.Error() + "); is the address right?", Err: err}
}

// readPage reads a page of this board.
func (c *connection) readPage(body []byte) (*wire.Page, error) {
	page, err := wire.ReadPage(body)
	if err == nil {
		err = c.ours(page.Board)
	}
	if err != nil {
		return nil, unexpected(err)
	}
	return page, nil
}

// ours returns why an answer is not from this board.
func (c *connection) ours(board string) error {
	if board != c.link.board {
		return fmt.Errorf("it is of the board %s", scan.Quote(board))
	}
	return nil
}
