package server

import (
	"errors"
	"log/slog"
	"net/http"
	"net/url"
	"runtime/debug"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/wire"
)

// A granted is a request whose caller is known.
type granted struct {
	request
	grant  access.Grant   // the caller's grant
	holder *access.Holder // of the caller's token; nil without a token
}

// An admitted is a granted request with what it holds of the server's resources.
type admitted struct {
	granted
	link string         // see who
	held *ledger.Ledger // see ledger
	free []func()       // called when the request ends
	few  [4]func()      // the beginning of free
}

// A call is an admitted request that a handler executes.
type call struct {
	admitted
	streams bool // it can take long, which is not logged
	erases  bool // what the call drops must not stay in the file
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
	c := &call{}
	c.request = request{s: s, r: r, peer: peer, way: to, board: to.board, now: time.Now()}
	s.serve(w, c)
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
		c.waitToRefuse(err)
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
		return c.unlessEnded(err)
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
	return c.unlessEnded(err)
}

// unlessEnded returns err, or the error for a token whose board was removed if that can be the cause.
func (c *call) unlessEnded(err error) error {
	if c.holder == nil || !errors.Is(err, ledger.ErrClosed) && !errors.Is(err, wire.ErrForbidden) {
		return err
	}
	_, release, gone := c.find(false)
	if gone == nil {
		release()
	}
	if errors.Is(gone, wire.ErrUnauthorized) {
		return gone
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
// exist is created if create is set, and is nil otherwise. With tokens it is an error. A token of an
// earlier board of that name is as wrong as any other.
func (c *admitted) find(create bool) (l *ledger.Ledger, release func(), err error) {
	l, release, err = c.s.store.Board(c.r.Context(), c.board, create && c.s.dev)
	switch {
	case err == nil && c.holder != nil:
		if err = c.holder.For(c.boardOf(l)); err != nil {
			release()
			return nil, nil, err
		}
	case !errors.Is(err, store.ErrNoBoard):
	case c.s.dev:
		return nil, func() {}, nil
	case c.holder != nil:
		return nil, nil, access.ErrNoToken
	default:
		return nil, nil, c.noBoard()
	}
	return l, release, err
}

// boardOf returns the board's life, to which its tokens belong.
func (c *granted) boardOf(l *ledger.Ledger) access.Board {
	return access.Board{Name: c.board, Life: l.Life()}
}

func (c *granted) noBoard() error {
	return wire.Refuse("no-board", "there is no board %s", scan.Quote(c.board))
}

// ledger is find for the duration of the call. Once there is a board, it is the same one each time.
func (c *admitted) ledger(create bool) (*ledger.Ledger, error) {
	if c.held != nil {
		return c.held, nil
	}
	l, release, err := c.find(create)
	if err == nil {
		c.held, c.free = l, append(c.free, release)
	}
	return l, err
}

// present returns the board if there is one, even if its file was put there by hand; otherwise nil.
func (c *admitted) present() (*ledger.Ledger, error) {
	l, err := c.ledger(false)
	if err == nil && l != nil {
		err = l.Current(c.r.Context())
	}
	return l, err
}

// author returns who makes the change: the label of the token, and the client's name.
func (c *granted) author() (entry.Author, error) {
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

func (c *call) health() error { return c.answer(http.StatusOK, []byte(`{"status":"ok"}`)) }
