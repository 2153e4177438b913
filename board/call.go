package board

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// maxAnswer limits the length of an answer: a page has at most 4 MiB, and one more value.
const maxAnswer = 8 << 20

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
func (b *Board) send(ctx context.Context, rq request) (reply, error) {
	if ctx == nil {
		panic("board: a call needs a context, not nil; use context.Background() if there is none")
	}
	if b.ctx.Err() != nil {
		return reply{}, closedByApp()
	}
	if _, has := ctx.Deadline(); !has {
		rq.patient = b.opts.timeout
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(b.ctx, cancel)()
	if rq.once {
		return b.sendOnce(ctx, rq)
	}
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval = 50 * time.Millisecond
	pauses.MaxInterval = time.Second
	var failed error
	first, maybe, from := true, false, time.Now()
	got, err := backoff.Retry(ctx, func() (got reply, err error) {
		if err := b.heed(ctx, b.opts.patience-time.Since(from)); err != nil {
			if failed == nil {
				failed = err
			}
			return got, backoff.Permanent(failed)
		}
		if !first && rq.since != "" {
			rq.header.Set("Idempotency-Since", rq.since)
		}
		first = false
		got, err = b.sendOnce(ctx, rq)
		failed = err
		maybe = maybe || err != nil && !notDone(err)
		var e *Error
		if err != nil && (!errors.As(err, &e) || !repeatable(rq, e)) {
			return got, backoff.Permanent(err)
		}
		return got, err
	}, backoff.WithBackOff(pauses), backoff.WithMaxElapsedTime(b.opts.patience))
	if err != nil && failed != nil {
		err = failed // Retry can return only that the time has passed
	}
	if e := (*Error)(nil); maybe && errors.As(err, &e) {
		c := *e
		c.maybe = true
		err = &c
	}
	return got, err
}

func closedByApp() error {
	return &Error{Index: -1, Code: "closed", Sentence: "the board was closed by this app", Err: pantry.ErrClosed}
}

// longestLater is the maximum Retry-After that is obeyed.
const longestLater = 5 * time.Minute

// heed waits for the time of Retry-After. If that is longer than the call has, it returns an error.
func (b *Board) heed(ctx context.Context, patience time.Duration) error {
	b.mu.Lock()
	later := time.Until(b.later)
	b.mu.Unlock()
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
		return b.unreachable(ctx.Err())
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
func (b *Board) request(ctx context.Context, rq request) (*http.Response, error) {
	address := b.link.base + "/v1/boards"
	if !rq.server {
		address += "/" + url.PathEscape(b.link.board) + rq.path
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
	hr.Header.Set("Client-Instance", b.instance)
	if b.opts.clientName != "" {
		hr.Header.Set("Client-Name", b.opts.clientName)
	}
	if b.link.token != "" {
		hr.Header.Set("Authorization", "Bearer "+b.link.token)
	}
	resp, err := b.http.Do(hr)
	if err != nil {
		return nil, b.unreachable(err)
	}
	return resp, nil
}

func (b *Board) sendOnce(ctx context.Context, rq request) (reply, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	listen := func(time.Duration) {}
	if rq.patient > 0 {
		quiet := time.AfterFunc(rq.patient+rq.silence, func() { cancel(context.DeadlineExceeded) })
		defer quiet.Stop()
		listen = func(d time.Duration) { quiet.Reset(d) }
	}
	resp, err := b.request(ctx, rq)
	if err != nil {
		return reply{}, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(heard{resp.Body, func() { listen(rq.patient) }}, maxAnswer+1))
	if err != nil {
		return reply{}, b.unreachable(cmp.Or(context.Cause(ctx), err))
	}
	if len(body) > maxAnswer {
		return reply{}, &Error{Index: -1, Code: "unexpected", Sentence: fmt.Sprintf("the answer is over %d bytes", maxAnswer), Err: errors.New("answer too long")}
	}
	if resp.StatusCode >= 300 && resp.StatusCode != http.StatusNotModified {
		e := fromAnswer(resp, body)
		if e.RetryAfter > 0 {
			b.mu.Lock()
			if later := time.Now().Add(min(e.RetryAfter, longestLater)); later.After(b.later) {
				b.later = later
			}
			b.mu.Unlock()
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

func (b *Board) unreachable(err error) error {
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err // the message has the address already, and it can be long
	}
	if b.ctx.Err() != nil {
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
	return &Error{Index: -1, Code: "unreachable", Sentence: fmt.Sprintf("%s can't be reached: %s", b.link.base, why), Err: errors.Join(ErrUnreachable, err)}
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

// A listPage is the answer to a list; with 304 the page is nil.
type listPage struct {
	*wire.Page
	tag string
}

// readPage reads a page of this board.
func (b *Board) readPage(body []byte) (*wire.Page, error) {
	page, err := wire.ReadPage(body)
	if err == nil {
		err = b.ours(page.Board)
	}
	if err != nil {
		return nil, unexpected(err)
	}
	return page, nil
}

// ours returns why an answer is not from this board.
func (b *Board) ours(board string) error {
	if board != b.link.board {
		return fmt.Errorf("it is of the board %s", scan.Quote(board))
	}
	return nil
}

// list requests a page of this board.
func (b *Board) list(ctx context.Context, rq request, tag string) (page listPage, err error) {
	rq.method, rq.path = http.MethodGet, "/entries"
	if tag != "" {
		rq.header = http.Header{"If-None-Match": {tag}}
	}
	page.Page = &wire.Page{}
	got, err := b.send(ctx, rq)
	if err != nil {
		return page, b.fail(rq.op, "", err)
	}
	page.tag = got.header.Get("ETag")
	switch {
	case got.status == http.StatusNotModified && tag != "":
		return listPage{nil, page.tag}, nil
	case got.status == http.StatusNotModified:
		err = unexpected(errors.New("it is 304, and nothing was known"))
	default:
		page.Page, err = b.readPage(got.body)
	}
	if err != nil {
		page.Page = &wire.Page{}
	}
	return page, b.fail(rq.op, "", err)
}

// Entry requests an entry from the server.
func (b *Board) Entry(ctx context.Context, name string) (e Entry, found bool, err error) {
	if err := pantry.CheckName(name); err != nil {
		return Entry{}, false, b.fail("get", name, err)
	}
	got, err := b.send(ctx, request{op: "get", method: http.MethodGet, path: entryPath(name)})
	if err == nil {
		if bad := e.UnmarshalJSON(got.body); bad != nil || e.Name != name {
			err = unexpected(cmp.Or(bad, errors.New("it is of another entry")))
		}
	}
	if errors.Is(err, pantry.ErrAbsent) {
		var e *Error
		if errors.As(err, &e) && len(e.near) > 0 {
			page := &wire.Page{}
			for _, near := range e.near {
				page.Findings = append(page.Findings, rules.Near{Name: name, Near: near})
			}
			b.reportNear(page)
		}
		return Entry{Name: name}, false, nil
	}
	if err != nil {
		return Entry{}, false, b.fail("get", name, err)
	}
	return e, true, nil
}

// Entries requests the entries whose names begin with prefix, sorted by the bytes of their names,
// page by page.
func (b *Board) Entries(ctx context.Context, prefix string) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for page, err := range b.pages(ctx, withPrefix(prefix)) {
			if err != nil {
				yield(Entry{}, err)
				return
			}
			for _, e := range page.Entries {
				if !yield(e, nil) {
					return
				}
			}
		}
	}
}

// All returns Entries as a slice, with the version of the board in the first page.
func (b *Board) All(ctx context.Context, prefix string) (entries []Entry, version int64, err error) {
	version = -1
	for page, err := range b.pages(ctx, withPrefix(prefix)) {
		if err != nil {
			return nil, 0, err
		}
		if version < 0 {
			version = page.Version
		}
		entries = append(entries, page.Entries...)
	}
	return entries, version, nil
}

func withPrefix(prefix string) url.Values {
	if prefix == "" {
		return url.Values{}
	}
	return url.Values{"prefix": {prefix}}
}

// pages iterates over the pages of a list. There is at least one.
func (b *Board) pages(ctx context.Context, query url.Values) iter.Seq2[listPage, error] {
	return func(yield func(listPage, error) bool) {
		for {
			page, err := b.list(ctx, request{op: "list", query: query}, "")
			if !yield(page, err) || err != nil || page.Next == "" {
				return
			}
			query.Set("after", page.Next)
		}
	}
}
