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

// A call is a request on its way: it is parsed, authorised, carried out, answered.
type call struct {
	s     *Server
	w     *recorder
	r     *http.Request
	way   *way
	now   time.Time // when it came
	peer  *peer     // who asks; nil: it is not known
	id    string    // by which the log and the client know the request; see known
	board string    // as it stands in the path, not escaped any more
	name  string    // of the entry, where it is about one
	free  []func()
	few   [4]func() // what free begins with
	rec   recorder  // what w is

	grant  access.Grant   // what the caller may
	holder *access.Holder // of his token; nil: he has none

	streams bool   // it can take long, which is not logged
	from    string // see address
	erases  bool   // what it drops must not stay in the file
}

// A handler answers a call, or gives the error that is to be answered.
type handler func(c *call) error

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.peers != nil {
		r = s.passedOn(r)
	}
	path := r.URL.Path
	if r.URL.RawPath != "" || strings.IndexByte(path, '%') >= 0 || path == "" { // else it is as it was sent
		path = r.URL.EscapedPath()
	}
	peer := peerOf(r)
	var to *way
	if peer != nil {
		to = peer.way.Load()
	}
	if to == nil || to.method != r.Method || to.path != path { // who polls asks for the same over and over
		path = strings.Clone(path) // which is part of all that was sent
		to = s.routes.find(r.Method, path)
		if peer != nil && len(path) <= maxWay {
			peer.way.Store(to)
		}
	}
	s.serve(w, &call{s: s, r: r, peer: peer, way: to, board: to.board, now: time.Now()})
}

// What every answer's head has. They are shared, and never changed.
var (
	cacheControl = []string{"private, no-cache"}
	varies       = []string{"Authorization, Accept, Origin"}
	nosniff      = []string{"nosniff"}
	isJSON       = []string{"application/json"}
)

// serve wraps what every answer has: the guard, headers, the problem where
// there is one, and the log.
func (s *Server) serve(w http.ResponseWriter, c *call) {
	c.rec = recorder{ResponseWriter: w, status: http.StatusOK}
	c.w, c.free = &c.rec, c.few[:0]
	if c.r.ContentLength != 0 { // what has a body must have come by then
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

// handle calls the handler once the caller may call it.
func (c *call) handle() (err error) {
	defer func() {
		for _, f := range c.free {
			f()
		}
		if p := recover(); p == http.ErrAbortHandler {
			panic(p)
		} else if p != nil {
			c.s.log.Error("panic", "request", c.known(), "panic", p, "stack", string(debug.Stack()))
			err = wire.Refuse(wire.Internal, "the server failed; its log says how")
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
		// Whatever else it ran into, as that its board is gone: it is for nobody any more.
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

// find gives the board of the call, until release is called. In development mode one
// that doesn't exist is made where create is set, and is nil otherwise; with tokens it
// is an error.
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

// ledger is find for as long as the call takes.
func (c *call) ledger(create bool) (*ledger.Ledger, error) {
	l, release, err := c.find(create)
	if err == nil {
		c.free = append(c.free, release)
	}
	return l, err
}

// present gives the board as it is, whoever put its file there; nil: there is none.
func (c *call) present() (*ledger.Ledger, error) {
	l, err := c.ledger(false)
	if err == nil && l != nil {
		err = l.Current(c.r.Context())
	}
	return l, err
}

// author says who asks: by the label of his token, and as he calls himself.
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

// header gives what a header of the call says first; name is as http.Header has it, since each
// Get finds that out anew.
func (c *call) header(name string) string {
	if given := c.r.Header[name]; len(given) > 0 {
		return given[0]
	}
	return ""
}

// tag has the answer say its entity tag.
func (c *call) tag(t string) { c.w.Header()["Etag"] = []string{t} }

// query gives the parameters of the call, of which those that it doesn't take
// are refused: a misspelt one must not be passed over. One that is given twice is
// refused too, unless its name comes with a star.
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

// isTrue reads a parameter that is true or false, which it is where it is left out.
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

// answerPage sends a page, piece by piece: what its reader is slow to take is not in memory.
// What can't be sent any more, the client does not want.
func (c *call) answerPage(status int, page rules.Page, bare bool) error {
	c.s.trouble.page(&page)
	c.w.Header()["Content-Type"] = isJSON
	out := http.NewResponseController(c.w)
	started := false
	err := wire.WritePage(&page, bare, chunk, func(b []byte) error {
		if !started {
			started = true
			c.w.WriteHeader(status)
			if len(b) < chunk { // all of it, which the connection takes
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

// writeSlowly writes in chunks, each of which the reader must take in time.
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

// answer sends JSON. What can't be sent any more, the client does not want.
func (c *call) answer(status int, body []byte) error {
	c.w.Header()["Content-Type"] = isJSON
	if status != http.StatusOK {
		c.w.WriteHeader(status)
	}
	_, _ = c.w.Write(append(body, '\n'))
	return nil
}

// refuse answers with the problem that an error is.
func (c *call) refuse(err error) {
	p := *wire.ProblemOf(err)
	p.Request = c.known()
	if c.name != "" {
		p.Op = -1 // there is one only
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

// log tells the log of the call. What a client is told is a sentence; the log
// has the cause, whatever it is wrapped in or joined with.
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

// A recorder remembers what was answered, for the log.
type recorder struct {
	http.ResponseWriter
	status int
	begun  bool // the head was sent
	bytes  int64
}

func (r *recorder) WriteHeader(status int) {
	r.status, r.begun = status, true
	if status != http.StatusNotModified {
		r.Header()["X-Content-Type-Options"] = nosniff
	}
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(b []byte) (int, error) {
	if !r.begun {
		r.begun, r.Header()["X-Content-Type-Options"] = true, nosniff
	}
	n, err := r.ResponseWriter.Write(b)
	r.bytes += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach the connection.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// route is the pattern of the path that was asked for.
func (c *call) route() string { return cmp.Or(c.way.route.path, "none") }

// known gives the id by which the log and the client know the request.
func (c *call) known() string {
	if c.id == "" {
		c.id = strconv.FormatUint(rand.Uint64(), 36)
	}
	return c.id
}

func (c *call) health() error { return c.answer(http.StatusOK, []byte(`{"status":"ok"}`)) }
