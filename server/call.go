package server

import (
	"context"
	"errors"
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
	id    string // by which the log and the client know the request
	board string // as it stands in the path, not escaped any more
	name  string // of the entry, where it is about one
	free  []func()

	streams bool // it may take long, and nobody is to hear of that
}

// A handler answers a call, or gives the error that is to be answered.
type handler func(c *call) error

// router gives every path and method its handler. Paths are matched as they
// were sent, escapes and all, since a name may hold whatever a path may.
func (s *Server) router() http.Handler {
	r := chi.NewRouter()
	on := func(path string, handlers map[string]handler) {
		takes := strings.Join(slices.Sorted(maps.Keys(handlers)), ", ")
		r.Handle(path, s.serve(func(c *call) error { // all methods but those that follow
			if c.r.Method == http.MethodOptions && c.r.Header.Get("Access-Control-Request-Method") != "" {
				return c.preflight()
			}
			c.w.Header().Set("Allow", takes)
			return wire.Refuse("method", "this path takes %s only", takes)
		}))
		for method, h := range handlers {
			r.Method(method, path, s.serve(h))
		}
	}
	on("/", map[string]handler{"GET": (*call).front, "HEAD": (*call).front})
	on("/healthz", map[string]handler{"GET": (*call).health})
	on("/openapi.json", map[string]handler{"GET": (*call).openAPI})
	on("/v1/boards", map[string]handler{"GET": (*call).listBoards, "POST": (*call).makeBoard})
	on("/v1/boards/{board}", map[string]handler{"GET": (*call).facts, "DELETE": (*call).removeBoard})
	on("/v1/boards/{board}/events", map[string]handler{"GET": (*call).events})
	on("/v1/boards/{board}/keys", map[string]handler{"GET": (*call).listKeys, "POST": (*call).declare})
	on("/v1/boards/{board}/keys/*", map[string]handler{"DELETE": (*call).withdraw})
	on("/v1/boards/{board}/commit", map[string]handler{"POST": (*call).commit})
	on("/v1/boards/{board}/history", map[string]handler{"GET": (*call).history})
	on("/v1/boards/{board}/entries", map[string]handler{"GET": (*call).listEntries, "HEAD": (*call).listEntries})
	on("/v1/boards/{board}/entries/*", map[string]handler{
		"GET": (*call).getEntry, "HEAD": (*call).getEntry, "PUT": (*call).putEntry, "POST": (*call).postEntry, "DELETE": (*call).deleteEntry,
	})
	r.NotFound(s.serve(func(c *call) error {
		if get := c.r.Method == http.MethodGet || c.r.Method == http.MethodHead; get && s.pages != nil && !strings.HasPrefix(c.r.URL.Path, "/v1/") {
			return c.page()
		}
		return wire.Refuse("no-route", "there is nothing at this path; boards are at /v1/boards/BOARD/entries")
	}))
	r.MethodNotAllowed(s.serve(func(c *call) error {
		return wire.Refuse("method", "there is no method %s here", scan.Quote(c.r.Method))
	}))
	return r
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	route := chi.NewRouteContext()
	route.RoutePath = r.URL.EscapedPath()
	s.routes.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), chi.RouteCtxKey, route)))
}

// serve wraps what every answer has: the guard, headers, the problem where
// there is one, and the log.
func (s *Server) serve(h handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		c := &call{s: s, w: &recorder{ResponseWriter: w, status: http.StatusOK}, r: r, id: strconv.FormatUint(rand.Uint64(), 36)}
		header := c.w.Header()
		header.Set("Cache-Control", "private, no-cache")
		header.Set("Vary", "Authorization, Accept")
		header.Set("X-Content-Type-Options", "nosniff")
		allowOrigin(header, r)
		err := c.handle(h)
		if err != nil {
			c.refuse(err)
		}
		c.log(time.Since(start), err)
	}
}

// handle calls the handler once the caller may call it.
func (c *call) handle(h handler) (err error) {
	defer func() {
		for _, f := range c.free {
			f()
		}
		if p := recover(); p == http.ErrAbortHandler {
			panic(p)
		} else if p != nil {
			c.s.log.Error("panic", "request", c.id, "panic", p, "stack", string(debug.Stack()))
			err = wire.Refuse(wire.Internal, "the server failed; its log says how")
		}
	}()
	if err := c.authorise(); err != nil {
		return err
	}
	if c.s.trouble.meet(c); c.lost() {
		defer panic(http.ErrAbortHandler)
	}
	route := chi.RouteContext(c.r.Context())
	if c.board, err = unescape("board", route.URLParam("board")); err != nil {
		return err
	}
	if strings.HasSuffix(route.RoutePattern(), "/*") {
		if c.name, err = unescape("name", route.URLParam("*")); err == nil {
			err = entry.CheckName(c.name)
		}
		if err != nil {
			return err
		}
	}
	if c.board != "" {
		c.s.rates.count(c.board, time.Now())
	}
	return h(c)
}

// authorise says whether whoever calls may call at all.
func (c *call) authorise() error {
	opens := c.r.Method == http.MethodGet && (c.r.URL.Path == "/" || c.s.pages != nil && !strings.HasPrefix(c.r.URL.Path, "/v1/"))
	return guardDev(c.r, opens)
}

func unescape(what, s string) (string, error) {
	out, err := url.PathUnescape(s)
	if err != nil {
		return "", wire.Refuse(wire.Invalid, "the %s in the path can't be read: %v", what, err)
	}
	return out, nil
}

// find gives the board of the call, until release is called. One that doesn't exist is
// made where create is set, and is nil otherwise.
func (c *call) find(create bool) (l *ledger.Ledger, release func(), err error) {
	l, release, err = c.s.store.Board(c.r.Context(), c.board, create)
	if errors.Is(err, store.ErrNoBoard) {
		return nil, func() {}, nil
	}
	return l, release, err
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
		err = l.Glance()
	}
	return l, err
}

// author says who asks, as he calls himself.
func (c *call) author() (entry.Author, error) {
	a := entry.Author{By: c.r.Header.Get("Client-Name"), From: c.r.Header.Get("Client-Instance")}
	if err := a.Check(); err != nil {
		return a, wire.Refuse(wire.Invalid, "the header Client-Name or Client-Instance: %v", err)
	}
	a.From = wire.InstanceID(a.From)
	return a, nil
}

// query gives the parameters of the call, of which those that it doesn't take
// are refused: a misspelt one must not be passed over. One that is given twice is
// refused too, unless its name comes with a star.
func (c *call) query(takes ...string) (url.Values, error) {
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

// encode gives a page as it is sent.
func (c *call) encode(page rules.Page, bare bool) []byte {
	c.s.trouble.page(&page)
	return wire.AppendPage(nil, &page, bare)
}

// answer sends JSON. What can't be sent any more, the client does not want.
func (c *call) answer(status int, body []byte) error {
	c.w.Header().Set("Content-Type", "application/json")
	c.w.WriteHeader(status)
	_, _ = c.w.Write(append(body, '\n'))
	return nil
}

// refuse answers with the problem that an error is.
func (c *call) refuse(err error) {
	p := *wire.ProblemOf(err)
	p.Request = c.id
	if c.name != "" {
		p.Op = -1 // there is one only
	}
	c.w.Header().Set("Content-Type", "application/problem+json")
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
	attrs := []slog.Attr{
		slog.String("method", c.r.Method), slog.String("board", c.board), slog.Int("status", c.w.status),
		slog.Int64("bytes", c.w.bytes), slog.Duration("took", took), slog.String("request", c.id),
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

func (c *call) health() error { return c.answer(http.StatusOK, []byte(`{"status":"ok"}`)) }
