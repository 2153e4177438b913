// Package boardtest runs a server of boards in a test. It is apart from pantrytest, so that the test of an
// app without boards does not import a server.
package boardtest

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/small-pantry/pantry/server"
)

// A Server is a real server of boards in this process, on a free port of this machine, in
// development mode: it has no tokens, and the first use of a board creates it. A test can inject
// faults. It is safe for concurrent use.
type Server struct {
	t    testing.TB
	data string
	http *httptest.Server

	mu      sync.RWMutex // guards the following fields; held for reading while a request is answered
	server  *server.Server
	trouble server.Trouble

	tmu  sync.Mutex // guards the following fields
	cut  bool
	slow time.Duration
	lose int // how many answers to writes get lost
}

// NewServer starts a server with an empty data directory. It stops when the test ends.
func NewServer(t testing.TB) *Server {
	t.Helper()
	s := &Server{t: t, data: t.TempDir()}
	s.open()
	s.http = httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(func() {
		s.mu.RLock()
		_ = s.server.Close() // this also ends streams and waiting calls
		s.mu.RUnlock()
		s.http.CloseClientConnections()
		s.http.Close()
	})
	return s
}

// open opens the boards. mu must be held for writing, unless no other goroutine has s.
func (s *Server) open() {
	var err error
	if s.server, err = server.New(server.Options{Data: s.data, Dev: true, Trouble: s.trouble, Log: slog.New(slog.DiscardHandler)}); err != nil {
		s.t.Fatalf("boardtest: start the server: %v", err)
	}
}

// Link returns the link to a board, for board.Join.
func (s *Server) Link(board string) string { return s.http.URL + "/boards/" + board }

func (s *Server) serve(w http.ResponseWriter, r *http.Request) {
	s.tmu.Lock()
	cut, slow := s.cut, s.slow
	write := r.Method == http.MethodPost || r.Method == http.MethodPut || r.Method == http.MethodDelete
	lose := write && s.lose > 0
	if lose {
		s.lose--
	}
	s.tmu.Unlock()
	if cut {
		panic(http.ErrAbortHandler)
	}
	if slow > 0 {
		select {
		case <-time.After(slow):
		case <-r.Context().Done():
		}
	}
	s.mu.RLock()
	handler := s.server
	s.mu.RUnlock()
	if lose {
		handler.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	}
	handler.ServeHTTP(w, r)
}

// Cut disconnects the network, until Connect: every connection breaks and no call is answered.
func (s *Server) Cut() {
	s.away(true)
	s.http.CloseClientConnections()
}

// Connect ends Cut.
func (s *Server) Connect() { s.away(false) }

func (s *Server) away(cut bool) {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	s.cut = cut
}

// Slow delays the start of each answer by d. 0 ends the delay.
func (s *Server) Slow(d time.Duration) {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	s.slow = d
}

// LoseAnswers makes the server do the next n writes and lose their answers.
func (s *Server) LoseAnswers(n int) {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	s.lose = n
}

// Garble makes the server report an unexpected text as the value of an entry. An empty name ends
// this. Garble restarts the server.
func (s *Server) Garble(name string) {
	s.restart(func() { s.trouble.Garble = name })
}

// Restart stops the server and starts it again on the same boards.
func (s *Server) Restart() { s.restart(func() {}) }

func (s *Server) restart(change func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.server.Close(); err != nil {
		s.t.Errorf("boardtest: stop the server: %v", err)
	}
	change()
	s.open()
}

// Dir returns the directory of the boards, which holds one file per board.
func (s *Server) Dir() string { return filepath.Join(s.data, "boards") }
