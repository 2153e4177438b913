package server

import (
	"cmp"
	"errors"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/url"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/wire"
)

// A call is one request while it is parsed, authorised, executed and answered.
type call struct {
	s     *Server
	w     *recorder
	r     *http.Request
	way   *way
	now   time.Time // when the request arrived
	peer  *peer     // the other end of the connection; nil means unknown
	id    string    // the request's id in the log and in the answer; see known
	board string    // as in the path, unescaped
	name  string    // of the entry, if the call is about one
	free  []func()
	few   [4]func() // the beginning of free
	rec   recorder  // what w points to

	grant  access.Grant   // the caller's grant
	holder *access.Holder // of the caller's token; nil without a token

	streams bool   // it can take long, which is not logged
	from    string // see address
	erases  bool   // what the call drops must not stay in the file
}

// A handler answers a call, or returns the error that is answered.
type handler func(c *call) error

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.peers != nil {
		r = s.passedOn(r)
	}
	path := r.URL.Path
	if r.URL.RawPath != "" || strings.IndexByte(path, '%') >= 0 || path == "" { // otherwise the path is as it was sent
		path = r.URL.EscapedPath()
	}
	peer := peerOf(r)
	var to *way
	if peer != nil {
		to = peer.way.Load()
	}
	if to == nil || to.method != r.Method || to.path != path { // a client that polls sends the same request again and again
		path = strings.Clone(path) // it is part of the whole request line
		to = s.routes.find(r.Method, path)
		if peer != nil && len(path) <= maxWay {
			peer.way.Store(to)
		}
	}
	s.serve(w, &call{s: s, r: r, peer: peer, way: to, board: to.board, now: time.Now()})
}

// Headers of every answer. They are shared and never changed.
var (
	cacheControl = []string{"private, no-cache"}
	varies       = []string{"Authorization, Accept, Origin"}
	nosniff      = []string{"nosniff"}
	isJSON       = []string{"application/json"}
)

// serve does what every answer needs: the guard, headers, the problem if there is one, and the log.
func (s *Server) serve(w http.ResponseWriter, c *call) {
	c.rec = recorder{ResponseWriter: w, status: http.StatusOK}
	c.w, c.free = &c.rec, c.few[:0]
	if c.r.ContentLength != 0 { // a body must have arrived by then
		_ = http.NewResponseController(w).SetReadDeadline(c.now.Add(bodyTime))
	}
	header := c.w.Header()
	header["Cache-Control"], header["Vary"] = cacheControl, varies
	s.allowOrigin(header, c.r)
	s.met.underWay.Inc()
	defer s.met.underWay.Dec()
	err := c.handle()
	if err != nil {
		c.refuse(err)
	}
	took := time.Since(c.now)
	s.met.count(c, took)
	c.log(took, err)
}

// handle calls the handler if the caller has the right to.
func (c *call) handle() (err error) {
	defer func() {
		for _, f := range c.free {
			f()
		}
		if p := recover(); p == http.ErrAbortHandler {
			panic(p)
		} else if p != nil {
			c.s.log.Error("panic", "request", c.known(), "panic", p, "stack", string(debug.Stack()))
			err = wire.Refuse(wire.Internal, "the server failed; its log has the cause")
		}
	}()
	to := c.way.route
	if c.board, err = unescape("board", c.board); err != nil {
		return err
	}
	if err := c.authorise(to.may); err != nil {
		return err
	}
	if c.s.trouble.meet(c); c.lost() {
		defer panic(http.ErrAbortHandler)
	}
	if to.named {
		if c.name, err = unescape("name", c.way.last); err == nil {
			if err = entry.CheckName(c.name); err == nil {
				about := c.name
				if to.path == keyPath && c.r.URL.Query().Get("family") == "true" {
					about += "/"
				}
				err = c.grant.Name(about)
			}
		}
		if err != nil {
			return err
		}
	}
	if to.may > access.Nothing {
		if c.board != "" {
			c.s.rates.count(c.board, c.now)
		}
		if err := c.slowDown(); err != nil {
			return err
		}
	}
	if done, err := c.passOn(); done || err != nil {
		return err
	}
	err = to.handle(c)
	if err != nil && c.holder != nil && !c.s.tokens.Still(c.holder, time.Now()) {
		// Other errors don't matter, for example that its board is gone: no client waits for it.
		if _, gone := c.s.tokens.Find(c.board, c.bearer(), time.Now()); gone != nil {
			err = gone
		}
	}
	return err
}

func unescape(what, s string) (string, error) {
	if strings.IndexByte(s, '%') < 0 {
		return s, nil
	}
	out, err := url.PathUnescape(s)
	if err != nil {
		return "", wire.Refuse(wire.Invalid, "the %s in the path can't be read: %v", what, err)
	}
	return out, nil
}

// find returns the call's board, until release is called. In development mode a board that does not
// exist is created if create is set, and is nil otherwise. With tokens it is an error.
func (c *call) find(create bool) (l *ledger.Ledger, release func(), err error) {
	l, release, err = c.s.store.Board(c.r.Context(), c.board, create && c.s.dev)
	if !errors.Is(err, store.ErrNoBoard) {
		return l, release, err
	}
	if !c.s.dev {
		return nil, nil, c.noBoard()
	}
	return nil, func() {}, nil
}

func (c *call) noBoard() error {
	return wire.Refuse("no-board", "there is no board %s", scan.Quote(c.board))
}

// ledger is find for the duration of the call.
func (c *call) ledger(create bool) (*ledger.Ledger, error) {
	l, release, err := c.find(create)
	if err == nil {
		c.free = append(c.free, release)
	}
	return l, err
}

// present returns the board if there is one, even if its file was put there by hand; otherwise nil.
func (c *call) present() (*ledger.Ledger, error) {
	l, err := c.ledger(false)
	if err == nil && l != nil {
		err = l.Current(c.r.Context())
	}
	return l, err
}

// author returns who makes the change: the label of the token, and the client's name.
func (c *call) author() (entry.Author, error) {
	a := entry.Author{By: c.header("Client-Name"), From: c.header("Client-Instance")}
	if len(a.From) > maxInstance {
		return a, wire.Refuse(wire.Invalid, "the header Client-Instance has %d bytes, and the limit is %d", len(a.From), maxInstance)
	}
	if err := a.Check(); err != nil {
		return a, wire.Refuse(wire.Invalid, "the header Client-Name or Client-Instance: %v", err)
	}
	a.From = wire.InstanceID(a.From)
	switch claim := a.By; {
	case c.s.dev:
	case claim == "":
		a.By = c.grant.Called()
	default:
		a.By = c.grant.Called() + " (" + claim + ")"
	}
	return a, nil
}

// maxInstance is the maximum length of a Client-Instance.
const maxInstance = 64

// header returns the first value of a header. name must be in the form of http.Header, because
// http.Header.Get would compute it each time.
func (c *call) header(name string) string {
	if given := c.r.Header[name]; len(given) > 0 {
		return given[0]
	}
	return ""
}

// tag sets the entity tag of the answer.
func (c *call) tag(t string) { c.w.Header()["Etag"] = []string{t} }

// query returns the parameters of the call. It refuses parameters that the call does not take,
// because a misspelt one must not be ignored, and repeated ones, unless their name is marked with a
// star.
func (c *call) query(takes ...string) (url.Values, error) {
	if c.r.URL.RawQuery == "" {
		return nil, nil
	}
	q, err := url.ParseQuery(c.r.URL.RawQuery)
	if err != nil {
		return nil, wire.Refuse(wire.Invalid, "the query can't be read: %v", err)
	}
	for name, values := range q {
		switch {
		case slices.Contains(takes, name+"*"):
		case !slices.Contains(takes, name) && len(takes) == 0:
			return nil, wire.Refuse(wire.Invalid, "there is no %s in this query; it takes none", scan.Quote(name))
		case !slices.Contains(takes, name):
			return nil, wire.Refuse(wire.Invalid, "there is no %s in this query; it takes %s", scan.Quote(name), strings.ReplaceAll(strings.Join(takes, ", "), "*", ""))
		case values[0] == "" && name != "after":
			return nil, wire.Refuse(wire.Invalid, "%s is empty in this query", name)
		case len(values) > 1:
			return nil, wire.Refuse(wire.Invalid, "%s is given %d times in this query, and can be given once", name, len(values))
		}
	}
	return q, nil
}

// isTrue reads a boolean parameter; an absent one is false.
func isTrue(q url.Values, name string) (bool, error) {
	switch s := q.Get(name); s {
	case "", "false":
		return false, nil
	case "true":
		return true, nil
	default:
		return false, wire.Refuse(wire.Invalid, "%s is %s, and must be true or false", name, scan.Quote(s))
	}
}

// answerPage sends a page in pieces, so that a slow reader's answer is not all in memory. An error
// of the connection is ignored: the client has gone.
func (c *call) answerPage(status int, page rules.Page, bare bool) error {
	c.s.trouble.page(&page)
	c.w.Header()["Content-Type"] = isJSON
	out := http.NewResponseController(c.w)
	started := false
	err := wire.WritePage(&page, bare, chunk, func(b []byte) error {
		if !started {
			started = true
			c.w.WriteHeader(status)
			if len(b) < chunk { // all of it, as the connection takes it
				_, err := c.w.Write(b)
				return err
			}
		}
		return writeSlowly(c.w, out, b)
	})
	if err == nil {
		_, _ = c.w.Write([]byte{'\n'})
	}
	return nil
}

// writeSlowly writes in chunks, and the reader must take each in time.
func writeSlowly(w io.Writer, out *http.ResponseController, b []byte) error {
	for len(b) > 0 {
		n := min(len(b), chunk)
		err := out.SetWriteDeadline(time.Now().Add(chunkTime))
		if err == nil {
			_, err = w.Write(b[:n])
		}
		if err != nil {
			return err
		}
		b = b[n:]
	}
	return nil
}

// answer sends JSON.
func (c *call) answer(status int, body []byte) error {
	c.w.Header()["Content-Type"] = isJSON
	if status != http.StatusOK {
		c.w.WriteHeader(status)
	}
	return c.write(append(body, '\n'))
}

// write writes a body. The reader of a large one must take each chunk in time. An error of the
// connection is ignored: the client has gone.
func (c *call) write(body []byte) error {
	if len(body) <= largeCall {
		_, _ = c.w.Write(body)
	} else {
		_ = writeSlowly(c.w, http.NewResponseController(c.w), body)
	}
	return nil
}

// refuse answers with the problem of an error.
func (c *call) refuse(err error) {
	p := *wire.ProblemOf(err)
	p.Request = c.known()
	if c.name != "" {
		p.Op = -1 // there is only one
	}
	c.w.Header().Set("Content-Type", "application/problem+json")
	if p.Status == http.StatusUnauthorized { // RFC 6750, 3
		c.w.Header().Set("WWW-Authenticate", c.challenge())
	}
	if p.RetryAfter > 0 {
		c.w.Header().Set("Retry-After", strconv.Itoa(p.RetryAfter))
	}
	c.w.WriteHeader(p.Status)
	_, _ = c.w.Write(append(p.AppendJSON(nil), '\n'))
}

// log logs the call. The client gets a sentence; the log gets the cause, even if it is wrapped or
// joined.
func (c *call) log(took time.Duration, err error) {
	level := slog.LevelDebug
	switch status := c.w.status; {
	case status == http.StatusUnauthorized, status == http.StatusForbidden, status == http.StatusRequestEntityTooLarge,
		status == http.StatusTooManyRequests, status >= 500, took > time.Second && !c.streams:
		level = slog.LevelInfo
	}
	if !c.s.log.Enabled(c.r.Context(), level) {
		return
	}
	attrs := []slog.Attr{
		slog.String("method", c.r.Method), slog.String("route", c.route()), slog.String("board", c.board), slog.Int("status", c.w.status),
		slog.Int64("bytes", c.w.bytes), slog.Duration("took", took), slog.String("request", c.known()),
	}
	if err != nil && c.w.status >= 500 {
		attrs = append(attrs, slog.String("cause", err.Error()))
	}
	c.s.log.LogAttrs(c.r.Context(), level, "request", attrs...)
}

// A recorder remembers the status and size of the answer for the log.
type recorder struct {
	http.ResponseWriter
	status int
	begun  bool // the header was sent, or is about to be
	bytes  int64
	before func() // called before the header is sent
}

func (r *recorder) begin() {
	r.begun = true
	if r.before != nil {
		r.before()
	}
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.begin()
	if status != http.StatusNotModified {
		r.Header()["X-Content-Type-Options"] = nosniff
	}
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(b []byte) (int, error) {
	if !r.begun {
		r.begin()
		r.Header()["X-Content-Type-Options"] = nosniff
	}
	n, err := r.ResponseWriter.Write(b)
	r.bytes += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach the connection.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// route returns the pattern of the requested path.
func (c *call) route() string { return cmp.Or(c.way.route.path, "none") }

// known returns the id of the request in the log and in the answer.
func (c *call) known() string {
	if c.id == "" {
		c.id = strconv.FormatUint(rand.Uint64(), 36)
	}
	return c.id
}

func (c *call) health() error { return c.answer(http.StatusOK, []byte(`{"status":"ok"}`)) }
