package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"github.com/small-pantry/pantry/internal/ledger"
)

// Options are what a Server needs to know.
type Options struct {
	// Data is the directory where the boards lie; it is made when missing.
	Data string
	// Dev is development mode: no tokens, this machine only. It must be set,
	// since there is no other mode yet.
	Dev bool
	// Log gets a line for each refusal, failure and slow request at level
	// info, and for every request at level debug. nil: slog.Default.
	Log *slog.Logger
}

// A Server keeps boards and answers for them. It is an http.Handler, and safe
// for concurrent use.
type Server struct {
	dev     bool
	log     *slog.Logger
	boards  *boards
	routes  http.Handler
	lineage string // drawn at each start: what a cursor of another means is not known

	stop     sync.Once
	stopping chan struct{} // closed when waiting requests must end
}

// ErrNoTokens is returned by New without Dev.
var ErrNoTokens = errors.New("boards with tokens are not built yet: use development mode, which serves this machine only")

// New opens the data directory and gives a Server on it. The errors are
// ErrNoTokens, ErrInUse, and the file system's own.
func New(o Options) (*Server, error) {
	if !o.Dev {
		return nil, ErrNoTokens
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	s := &Server{
		dev: o.Dev, log: o.Log, stopping: make(chan struct{}),
		lineage: strconv.FormatUint(rand.Uint64N(1<<31), 36),
	}
	var err error
	s.boards, err = openBoards(o.Data, func(board string, err error) {
		s.log.Warn("board", "board", board, "problem", err.Error())
	})
	if err != nil {
		return nil, fmt.Errorf("open the data directory: %w", err)
	}
	s.routes = s.router()
	return s, nil
}

func (s *Server) router() http.Handler {
	r := chi.NewRouter()
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, map[string]string{"status": "ok"})
	})
	r.Get("/v1/boards", func(w http.ResponseWriter, r *http.Request) {
		s.handle(w, r, func(*call) error { return s.listBoards(w) })
	})
	r.Post("/v1/boards/{board}/commit", func(w http.ResponseWriter, r *http.Request) {
		s.handle(w, r, func(c *call) error {
			c.board = chi.URLParam(r, "board")
			return s.commit(c)
		})
	})
	r.Get("/v1/boards/{board}/history", func(w http.ResponseWriter, r *http.Request) {
		s.handle(w, r, func(c *call) error {
			c.board = chi.URLParam(r, "board")
			return s.history(c)
		})
	})
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		s.handle(w, r, func(*call) error {
			return refuse("no-route", "there is nothing at this path; boards are at /v1/boards/BOARD/entries")
		})
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		s.handle(w, r, func(*call) error {
			if strings.HasSuffix(r.URL.Path, "/commit") {
				return methodNotAllowed(w, "POST")
			}
			return methodNotAllowed(w, "GET")
		})
	})
	return r
}

func methodNotAllowed(w http.ResponseWriter, allowed ...string) error {
	w.Header().Set("Allow", strings.Join(allowed, ", "))
	return refuse("method", "this path takes %s only", strings.Join(allowed, ", "))
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	board, name, ofBoard := splitPath(r.URL.EscapedPath())
	if !ofBoard {
		s.routes.ServeHTTP(w, r)
		return
	}
	s.handle(w, r, func(c *call) error { return s.serveBoard(c, board, name) })
}

// splitPath takes the board and the name out of an escaped path before any
// router can clean or redirect it, since a name may hold whatever a path may,
// and %2F in it is the same as /. The name is nil for the list of entries.
func splitPath(escaped string) (board string, name *string, ok bool) {
	rest, ok := strings.CutPrefix(escaped, "/v1/boards/")
	if !ok {
		return "", nil, false
	}
	board, rest, _ = strings.Cut(rest, "/")
	name1, isEntry := strings.CutPrefix(rest, "entries/")
	switch {
	case rest == "entries":
		return board, nil, true
	case isEntry:
		return board, &name1, true
	}
	return "", nil, false
}

func (s *Server) serveBoard(c *call, board string, name *string) error {
	var err error
	if c.board, err = url.PathUnescape(board); err != nil {
		return refuse("invalid", "the board's name in the path can't be read: %v", err)
	}
	if name == nil {
		if c.r.Method == http.MethodGet || c.r.Method == http.MethodHead {
			return s.listEntries(c)
		}
		return methodNotAllowed(c.w, "GET", "HEAD")
	}
	if c.name, err = url.PathUnescape(*name); err != nil {
		return refuse("invalid", "the name in the path can't be read: %v", err)
	}
	if err := ledger.CheckName(c.name); err != nil {
		return err
	}
	switch c.r.Method {
	case http.MethodGet, http.MethodHead:
		return s.getEntry(c)
	case http.MethodPut:
		return s.putEntry(c)
	case http.MethodPost:
		return s.postEntry(c)
	case http.MethodDelete:
		return s.deleteEntry(c)
	}
	return methodNotAllowed(c.w, "GET", "HEAD", "PUT", "POST", "DELETE")
}

func (s *Server) listBoards(w http.ResponseWriter) error {
	names, err := s.boards.names()
	if err != nil {
		return err
	}
	type board struct {
		Board   string `json:"board"`
		Version int64  `json:"version"`
		Entries int    `json:"entries"`
	}
	list := []board{}
	for _, name := range names {
		b, err := s.boards.get(name, false)
		if err != nil || b == nil {
			list = append(list, board{Board: name})
			continue
		}
		snap := b.Snapshot()
		one := board{Board: name, Version: snap.Version}
		for range snap.Entries("", "") {
			one.Entries++
		}
		snap.Release()
		list = append(list, one)
	}
	writeJSON(w, http.StatusOK, map[string]any{"boards": list})
	return nil
}

// handle wraps what every answer has: the guard, headers, the problem where
// there is one, and the log.
func (s *Server) handle(w http.ResponseWriter, r *http.Request, f func(c *call) error) {
	start := time.Now()
	id := strconv.FormatUint(rand.Uint64(), 36)
	rec := &recorder{ResponseWriter: w, status: http.StatusOK}
	h := rec.Header()
	h.Set("Cache-Control", "private, no-cache")
	h.Set("Vary", "Authorization, Accept")
	h.Set("X-Content-Type-Options", "nosniff")
	c := &call{w: rec, r: r}
	err := s.guarded(c, f)
	if err != nil {
		asProblem(err).write(rec, id)
	}
	level := slog.LevelDebug
	took := time.Since(start)
	switch rec.status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusRequestEntityTooLarge, http.StatusTooManyRequests:
		level = slog.LevelInfo
	default:
		if rec.status >= 500 || took > time.Second && r.URL.Query().Get("wait") == "" {
			level = slog.LevelInfo
		}
	}
	attrs := []slog.Attr{
		slog.String("method", r.Method), slog.String("board", c.board), slog.Int("status", rec.status),
		slog.Int64("bytes", rec.bytes), slog.Duration("took", took), slog.String("request", id),
	}
	if cause := errors.Unwrap(err); cause != nil && rec.status >= 500 {
		attrs = append(attrs, slog.String("cause", cause.Error()))
	}
	s.log.LogAttrs(r.Context(), level, "request", attrs...)
}

func (s *Server) guarded(c *call, f func(c *call) error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			s.log.Error("panic", "panic", p, "stack", string(debug.Stack()))
			err = refuse("internal", "the server failed; its log says how")
		}
	}()
	if err := guardDev(c.r); err != nil {
		return err
	}
	return f(c)
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

// Check says whether Serve would take l: it returns ErrNotLoopback in
// development mode for a listener that others can reach.
func (s *Server) Check(l net.Listener) error {
	if s.dev && !loopback(l.Addr()) {
		return ErrNotLoopback
	}
	return nil
}

// Serve answers what comes in on l until ctx ends, and then lets requests that
// are under way finish, for 5 seconds at most. In development mode it returns
// ErrNotLoopback for a listener that others can reach. It closes l.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	if err := s.Check(l); err != nil {
		return errors.Join(err, l.Close())
	}
	hs := &http.Server{
		Handler:           s,
		ReadHeaderTimeout: 5 * time.Second,
		ReadTimeout:       60 * time.Second,
		IdleTimeout:       60 * time.Second,
		MaxHeaderBytes:    16 << 10,
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	done := make(chan error, 1)
	stopped := context.AfterFunc(ctx, func() {
		s.endWaits()
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		done <- hs.Shutdown(ctx)
	})
	err := hs.Serve(l)
	if stopped() {
		return err
	}
	return <-done
}

func (s *Server) endWaits() { s.stop.Do(func() { close(s.stopping) }) }

// Close ends requests that wait, and closes the boards. Call it after Serve
// has returned.
func (s *Server) Close() error {
	s.endWaits()
	return s.boards.close()
}
