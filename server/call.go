package server

import (
	"cmp"
	"context"
	"errors"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

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
	to    route
	now   time.Time // when it came
	id    string    // by which the log and the client know the request; see known
	board string    // as it stands in the path, not escaped any more
	name  string    // of the entry, where it is about one
	free  []func()
	few   [4]func() // what free begins with
	rec   recorder  // what w is

	grant  access.Grant   // what the caller may
	holder *access.Holder // of his token; nil: he has none

	streams bool // it may take long, and nobody is to hear of that
}

// A handler answers a call, or gives the error that is to be answered.
type handler func(c *call) error

// A route is a handler with what it takes to call it at all.
type route struct {
	may    access.Right
	handle handler
	path   string // as it was registered; empty: any other
	named  bool   // the end of the path is a name
}

// router gives every path and method its route. Paths are matched as they were sent,
// escapes and all, since a name may hold whatever a path may.
func (s *Server) router() http.Handler {
	r := chi.NewRouter()
	on := func(path string, routes map[string]route) {
		takes := strings.Join(slices.Sorted(maps.Keys(routes)), ", ")
		r.Handle(path, s.serve(route{path: path, handle: func(c *call) error { // all methods but those that follow
			if c.r.Method == http.MethodOptions && c.r.Header.Get("Access-Control-Request-Method") != "" {
				return c.preflight()
			}
			c.w.Header().Set("Allow", takes)
			return wire.Refuse("method", "this path takes %s only", takes)
		}}))
		for method, one := range routes {
			one.path, one.named = path, strings.HasSuffix(path, "/*")
			r.Method(method, path, s.serve(one))
		}
	}
	on("/", map[string]route{"GET": {may: access.Nothing, handle: (*call).front}, "HEAD": {may: access.Nothing, handle: (*call).front}})
	on("/healthz", map[string]route{"GET": {may: access.Nothing, handle: (*call).health}})
	on("/readyz", map[string]route{"GET": {may: access.Nothing, handle: (*call).ready}})
	on("/metrics", map[string]route{"GET": {may: access.Admin, handle: (*call).metrics}})
	on("/openapi.json", map[string]route{"GET": {may: access.Nothing, handle: (*call).openAPI}})
	for _, path := range []string{"/small-pantry.js", "/small-pantry.d.ts", "/small-pantry/{file}"} {
		on(path, map[string]route{"GET": {may: access.Nothing, handle: (*call).ownFile}, "HEAD": {may: access.Nothing, handle: (*call).ownFile}})
	}
	on("/boards/{board}", map[string]route{"GET": {may: access.Nothing, handle: (*call).boardPage}, "HEAD": {may: access.Nothing, handle: (*call).boardPage}})
	on("/v1/boards", map[string]route{"GET": {may: access.Admin, handle: (*call).listBoards}, "POST": {may: access.Admin, handle: (*call).makeBoard}})
	const board = "/v1/boards/{board}"
	on(board, map[string]route{"GET": {may: access.Read, handle: (*call).facts}, "DELETE": {may: access.Admin, handle: (*call).removeBoard}})
	on(board+"/events", map[string]route{"GET": {may: access.Read, handle: (*call).events}})
	on(board+"/keys", map[string]route{"GET": {may: access.Read, handle: (*call).listKeys}, "POST": {may: access.Write, handle: (*call).declare}})
	on(board+"/keys/*", map[string]route{"DELETE": {may: access.Own, handle: (*call).withdraw}})
	on(board+"/tokens", map[string]route{
		"GET": {may: access.Own, handle: (*call).listTokens}, "POST": {may: access.Own, handle: (*call).makeToken}, "DELETE": {may: access.Own, handle: (*call).revokeLabel},
	})
	on(board+"/tokens/{token}", map[string]route{"DELETE": {may: access.Own, handle: (*call).revokeToken}})
	on(board+"/commit", map[string]route{"POST": {may: access.Add, handle: (*call).commit}})
	on(board+"/history", map[string]route{"GET": {may: access.Read, handle: (*call).history}})
	on(board+"/entries", map[string]route{"GET": {may: access.Read, handle: (*call).listEntries}, "HEAD": {may: access.Read, handle: (*call).listEntries}})
	on(board+"/entries/*", map[string]route{
		"GET": {may: access.Read, handle: (*call).getEntry}, "HEAD": {may: access.Read, handle: (*call).getEntry}, "PUT": {may: access.Write, handle: (*call).putEntry},
		"POST": {may: access.Add, handle: (*call).postEntry}, "DELETE": {may: access.Write, handle: (*call).deleteEntry},
	})
	r.NotFound(s.serve(route{handle: func(c *call) error {
		if c.wantsPage() {
			return c.page()
		}
		return wire.Refuse("no-route", "there is nothing at this path; boards are at /v1/boards/BOARD/entries")
	}}))
	r.MethodNotAllowed(s.serve(route{handle: func(c *call) error {
		return wire.Refuse("method", "there is no method %s here", scan.Quote(c.r.Method))
	}}))
	return r
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.peers != nil {
		r = s.passedOn(r)
	}
	if r.URL.RawPath != "" || strings.IndexByte(r.URL.Path, '%') >= 0 || r.URL.Path == "" { // else it is as it was sent
		route := chi.NewRouteContext()
		route.RoutePath = r.URL.EscapedPath()
		r = r.WithContext(context.WithValue(r.Context(), chi.RouteCtxKey, route))
	}
	s.routes.ServeHTTP(w, r)
}

// What every answer's head has. They are shared, and never changed.
var (
	cacheControl = []string{"private, no-cache"}
	varies       = []string{"Authorization, Accept"}
	nosniff      = []string{"nosniff"}
	isJSON       = []string{"application/json"}
)

// serve wraps what every answer has: the guard, headers, the problem where
// there is one, and the log.
func (s *Server) serve(to route) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		c := &call{s: s, r: r, to: to, now: time.Now()}
		c.rec = recorder{ResponseWriter: w, status: http.StatusOK}
		c.w, c.free = &c.rec, c.few[:0]
		header := c.w.Header()
		header["Cache-Control"], header["Vary"], header["X-Content-Type-Options"] = cacheControl, varies, nosniff
		s.allowOrigin(header, r)
		s.met.underWay.Inc()
		defer s.met.underWay.Dec()
		err := c.handle(to)
		if err != nil {
			c.refuse(err)
		}
		took := time.Since(c.now)
		s.met.count(c, took)
		c.log(took, err)
	}
}

// handle calls the handler once the caller may call it.
func (c *call) handle(to route) (err error) {
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
	route := chi.RouteContext(c.r.Context())
	if c.board, err = unescape("board", route.URLParam("board")); err != nil {
		return err
	}
	if err := c.authorise(to.may); err != nil {
		return err
	}
	if c.s.trouble.meet(c); c.lost() {
		defer panic(http.ErrAbortHandler)
	}
	if to.named {
		if c.name, err = unescape("name", route.URLParam("*")); err == nil {
			if err = entry.CheckName(c.name); err == nil {
				err = c.grant.Name(c.name)
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
		if err := c.slowDown(c.now); err != nil {
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
	a := entry.Author{By: c.r.Header.Get("Client-Name"), From: c.r.Header.Get("Client-Instance")}
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
	c.w.Header().Set("Content-Type", "application/json")
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
	bytes  int64
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(b []byte) (int, error) {
	n, err := r.ResponseWriter.Write(b)
	r.bytes += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach the connection.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// route is the pattern of the path that was asked for.
func (c *call) route() string { return cmp.Or(c.to.path, "none") }

// known gives the id by which the log and the client know the request.
func (c *call) known() string {
	if c.id == "" {
		c.id = strconv.FormatUint(rand.Uint64(), 36)
	}
	return c.id
}

func (c *call) health() error { return c.answer(http.StatusOK, []byte(`{"status":"ok"}`)) }
