package board

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// maxAnswer bounds what is read of an answer: a page has 4 MiB at most, and
// one value may stand on top of that.
const maxAnswer = 8 << 20

// A request is one call to the server.
type request struct {
	op, method, path string // the path below the board
	server           bool   // about all boards: there is no path
	query            url.Values
	header           http.Header
	body             []byte
	once             bool // a poll: not repeated, the next one comes anyhow
}

// A reply is the server's answer.
type reply struct {
	status int
	header http.Header
	body   []byte
}

// send makes a call, and again where it is certain that it was not carried
// out, for as long as Patience says.
func (b *Board) send(ctx context.Context, rq request) (reply, error) {
	if b.ctx.Err() != nil {
		return reply{}, &Error{Code: "closed", Sentence: "the board was closed by this app", Err: pantry.ErrClosed}
	}
	if _, has := ctx.Deadline(); !has {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, b.opts.timeout)
		defer cancel()
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
	got, err := backoff.Retry(ctx, func() (got reply, err error) {
		got, err = b.sendOnce(ctx, rq)
		failed = err
		var e *Error
		if err != nil && (!errors.As(err, &e) || !repeatable(rq, e)) {
			return got, backoff.Permanent(err)
		}
		return got, err
	}, backoff.WithBackOff(pauses), backoff.WithMaxElapsedTime(b.opts.patience))
	if err != nil && failed != nil {
		err = failed // Retry may tell no more than that the time is up
	}
	return got, err
}

// repeatable says whether a call that failed so can be made again without
// counting twice: it never reached a server, the server says that it did
// nothing, or it only asked.
func repeatable(rq request, e *Error) bool {
	if e.Code == "rate-limited" || e.Code == "unavailable" {
		return true
	}
	var dial *net.OpError
	return e.Code == "unreachable" && (rq.method == http.MethodGet || errors.As(e.Err, &dial) && dial.Op == "dial")
}

func (b *Board) sendOnce(ctx context.Context, rq request) (reply, error) {
	address := b.link.base + "/v1/boards"
	if !rq.server {
		address += "/" + url.PathEscape(b.link.board) + rq.path
	}
	if len(rq.query) > 0 {
		address += "?" + rq.query.Encode()
	}
	hr, err := http.NewRequestWithContext(ctx, rq.method, address, bytes.NewReader(rq.body))
	if err != nil {
		return reply{}, err
	}
	for name, values := range rq.header {
		hr.Header[name] = values
	}
	hr.Header.Set("Client-Instance", b.instance)
	if b.opts.as != "" {
		hr.Header.Set("Client-Name", b.opts.as)
	}
	if b.link.token != "" {
		hr.Header.Set("Authorization", "Bearer "+b.link.token)
	}
	resp, err := b.http.Do(hr)
	if err != nil {
		return reply{}, b.unreachable(err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return reply{}, b.unreachable(err)
	}
	if len(body) > maxAnswer {
		return reply{}, &Error{Code: "unexpected", Sentence: fmt.Sprintf("the answer is over %d bytes", maxAnswer), Err: errors.New("answer too long")}
	}
	if resp.StatusCode >= 300 && resp.StatusCode != http.StatusNotModified {
		return reply{}, fromAnswer(resp, body)
	}
	return reply{resp.StatusCode, resp.Header, body}, nil
}

func (b *Board) unreachable(err error) error {
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err // the address is told already, and may be long
	}
	if b.ctx.Err() != nil {
		return &Error{Code: "closed", Sentence: "the board was closed by this app", Err: pantry.ErrClosed}
	}
	why := err.Error()
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		why = "no answer within the time limit"
	case errors.Is(err, context.Canceled):
		why = "the app gave up before the answer came"
	}
	return &Error{Code: "unreachable", Sentence: fmt.Sprintf("%s can't be reached: %s", b.link.base, why), Err: errors.Join(ErrUnreachable, err)}
}

func entryPath(name string) string {
	parts := strings.Split(name, "/")
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	return "/entries/" + strings.Join(parts, "/")
}

// UnmarshalJSON reads an entry as the wire has it.
func (e *Entry) UnmarshalJSON(data []byte) error {
	var w struct {
		Name, Kind, By, From string
		Value                json.RawMessage
		Version              int64
		Updated              time.Time
	}
	if err := json.Unmarshal(data, &w); err != nil {
		return err
	}
	kind, err := value.ParseKind(w.Kind)
	if err != nil {
		return err
	}
	*e = Entry{Name: w.Name, Version: w.Version, Updated: w.Updated, By: w.By, From: w.From}
	if w.Value != nil {
		e.Value, err = value.Parse(kind, w.Value)
	}
	return err
}

// MarshalJSON writes an entry as the wire has it.
func (e Entry) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Name    string      `json:"name"`
		Kind    string      `json:"kind"`
		Value   value.Value `json:"value"`
		Version int64       `json:"version"`
		Updated time.Time   `json:"updated"`
		By      string      `json:"by,omitempty"`
		From    string      `json:"from,omitempty"`
	}{e.Name, e.Value.Kind().String(), e.Value, e.Version, e.Updated, e.By, e.From})
}

// decode reads an answer; one that is not as agreed is not trusted.
func decode(body []byte, into any) error {
	if err := json.Unmarshal(body, into); err != nil {
		return &Error{Code: "unexpected", Sentence: "the answer is not what a board answers; is the address right?", Err: err}
	}
	return nil
}

type listPage struct {
	Version int64
	Cursor  string
	Entries []Entry
	Gone    []struct {
		Name    string
		Version int64
	}
	Reset bool
	Next  string

	status int
	tag    string
}

func (b *Board) list(ctx context.Context, op string, query url.Values, tag string) (page listPage, err error) {
	rq := request{op: op, method: http.MethodGet, path: "/entries", query: query, once: op == "poll"}
	if tag != "" {
		rq.header = http.Header{"If-None-Match": {tag}}
	}
	got, err := b.send(ctx, rq)
	if err != nil {
		return page, b.fail(op, "", err)
	}
	page.status, page.tag = got.status, got.header.Get("ETag")
	if got.status == http.StatusNotModified {
		return page, nil
	}
	return page, b.fail(op, "", decode(got.body, &page))
}

// Entry asks the server for what is stored under name.
func (b *Board) Entry(ctx context.Context, name string) (e Entry, found bool, err error) {
	got, err := b.onEntry(ctx, request{op: "get", method: http.MethodGet}, name)
	if errors.Is(err, ErrAbsent) {
		return Entry{Name: name}, false, nil
	}
	if err == nil {
		e, err = b.entryOf(got, "get", name)
	}
	return e, err == nil, err
}

func (b *Board) onEntry(ctx context.Context, rq request, name string) (reply, error) {
	if err := ledger.CheckName(name); err != nil {
		return reply{}, b.fail(rq.op, name, err)
	}
	rq.path = entryPath(name)
	got, err := b.send(ctx, rq)
	return got, b.fail(rq.op, name, err)
}

// entryOf reads an answered entry. What a variable shows learns from it.
func (b *Board) entryOf(got reply, op, name string) (e Entry, err error) {
	if err := decode(got.body, &e); err != nil {
		return e, b.fail(op, name, err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.nodes[name] != nil {
		b.learnLocked(e, false)
	}
	return e, nil
}

// Entries asks the server for what is stored under the names that begin with
// prefix, by the byte order of the names, page by page.
func (b *Board) Entries(ctx context.Context, prefix string) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for page, err := range b.pages(ctx, prefix) {
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

// All is Entries in one slice, with the version of the board that the first
// page was of.
func (b *Board) All(ctx context.Context, prefix string) (entries []Entry, version int64, err error) {
	version = -1
	for page, err := range b.pages(ctx, prefix) {
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

func (b *Board) pages(ctx context.Context, prefix string) iter.Seq2[listPage, error] {
	return func(yield func(listPage, error) bool) {
		query := url.Values{}
		if prefix != "" {
			query.Set("prefix", prefix)
		}
		for {
			page, err := b.list(ctx, "list", query, "")
			if !yield(page, err) || err != nil || page.Next == "" {
				return
			}
			query.Set("after", page.Next)
		}
	}
}

// A Condition must hold for a write to happen; otherwise it returns
// pantry.ErrConflict and changes nothing.
type Condition func(h http.Header, q url.Values)

// IfVersion asks that the entry is still at a version; 0 means absent.
func IfVersion(version int64) Condition {
	if version == 0 {
		return IfAbsent()
	}
	return func(h http.Header, _ url.Values) { h.Set("If-Match", strconv.FormatInt(version, 10)) }
}

// IfAbsent asks that nothing is stored.
func IfAbsent() Condition {
	return func(h http.Header, _ url.Values) { h.Set("If-None-Match", "*") }
}

// AsKind is no condition but a permission: the entry may change its kind to k.
func AsKind(k value.Kind) Condition {
	return func(_ http.Header, q url.Values) { q.Set("kind", k.String()) }
}

// Put stores a value under a name without a key, and gives the entry. An entry
// keeps its kind: a value of another is converted exactly, or refused with
// pantry.ErrWrongKind, unless AsKind allows the change.
func (b *Board) Put(ctx context.Context, name string, v value.Value, conditions ...Condition) (Entry, error) {
	if err := v.Check(); err != nil {
		return Entry{}, b.fail("put", name, err)
	}
	return b.put(ctx, "put", name, "application/json; kind="+v.Kind().String(), v.AppendJSON(nil), conditions)
}

// PutTyped stores what a person typed: as the kind that is stored already, or
// else as the kind that it looks like (see value.Infer).
func (b *Board) PutTyped(ctx context.Context, name, typed string, conditions ...Condition) (Entry, error) {
	return b.put(ctx, "put", name, "", []byte(typed), conditions)
}

func (b *Board) put(ctx context.Context, op, name, media string, body []byte, conditions []Condition) (Entry, error) {
	rq := request{op: op, method: http.MethodPut, header: http.Header{}, query: url.Values{}, body: body}
	if media != "" {
		rq.header.Set("Content-Type", media)
	}
	for _, c := range conditions {
		c(rq.header, rq.query)
	}
	got, err := b.onEntry(ctx, rq, name)
	if err != nil {
		return Entry{}, err
	}
	return b.entryOf(got, op, name)
}
