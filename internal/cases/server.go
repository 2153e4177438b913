package cases

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/small-pantry/pantry/server"
)

// A Server is a real one in development mode, with trouble on the way to it.
type Server struct {
	t    testing.TB
	data string
	http *httptest.Server

	mu      sync.RWMutex // guards server; held for reading while it answers
	server  *server.Server
	tmu     sync.Mutex // guards what follows
	trouble string
	lose    int // answers to writes
	busy    int // refusals that are left
	noPush  bool
	noWait  bool
}

// NewServer starts a server, which stops with the test.
func NewServer(t testing.TB) *Server {
	t.Helper()
	s := &Server{t: t, data: t.TempDir()}
	s.open()
	s.http = httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(func() {
		s.mu.RLock()
		_ = s.server.Close()
		s.mu.RUnlock()
		s.http.CloseClientConnections()
		s.http.Close()
	})
	return s
}

func (s *Server) open() {
	var err error
	if s.server, err = server.New(server.Options{Data: s.data, Dev: true, Log: slog.New(slog.DiscardHandler)}); err != nil {
		s.t.Errorf("start the server: %v", err)
	}
}

// Link gives the link of a board.
func (s *Server) Link(board string) string { return s.http.URL + "/boards/" + board }

// Do has something happen: "lose N" answers to writes, though they are done; "busy S": the next
// call is to come again in so many seconds; "portal": everything is answered with a page for
// people; "other": with what is of another board; "broken": with 502; "silent": nothing comes, and nothing ends; "cut": nothing is
// answered; "drop": what is open breaks off once; "no streams", "no waits"; "remove" the board;
// "restart" the server; "back": all is well again.
func (s *Server) Do(board, what string) {
	verb, rest, _ := strings.Cut(what, " ")
	n := 0
	_, _ = fmt.Sscan(rest, &n)
	s.tmu.Lock()
	switch {
	case verb == "lose":
		s.lose = n
	case verb == "busy":
		s.busy = 1
	case what == "no streams":
		s.noPush = true
	case what == "no waits":
		s.noWait = true
	case what == "back":
		s.trouble, s.lose, s.busy, s.noPush, s.noWait = "", 0, 0, false, false
	case verb == "portal", verb == "other", verb == "broken", verb == "cut", verb == "silent":
		s.trouble = verb
	}
	s.tmu.Unlock()
	switch verb {
	case "remove":
		s.ask(http.MethodDelete, "/v1/boards/"+board, "")
	case "restart":
		s.mu.Lock()
		defer s.mu.Unlock()
		if err := s.server.Close(); err != nil {
			s.t.Errorf("stop the server: %v", err)
		}
		s.open()
	case "no", "cut", "drop", "broken", "portal", "other", "silent":
		s.http.CloseClientConnections()
	}
}

// Others has somebody else make an op on an entry, whatever trouble there is.
func (s *Server) Others(board, name, op string) {
	s.ask(http.MethodPost, "/v1/boards/"+board+"/commit", fmt.Sprintf(`{"ops":[{"name":%q,%s]}`, name, strings.TrimPrefix(strings.TrimSpace(op), "{")))
}

// Holds gives an entry as the server has it.
func (s *Server) Holds(board, name string) string {
	return s.ask(http.MethodGet, "/v1/boards/"+board+"/entries/"+name, "")
}

func (s *Server) ask(method, path, body string) string {
	r := httptest.NewRequest(method, "http://localhost:8437"+path, strings.NewReader(body))
	r.RemoteAddr = "127.0.0.1:1"
	r.Header.Set("Content-Type", "application/json")
	rec := httptest.NewRecorder()
	s.mu.RLock()
	defer s.mu.RUnlock()
	s.server.ServeHTTP(rec, r.WithContext(context.WithValue(r.Context(), http.LocalAddrContextKey, net.Addr(&net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 8437}))))
	if rec.Code >= 400 {
		s.t.Errorf("%s %s %s: %d %s", method, path, body, rec.Code, rec.Body)
	}
	return rec.Body.String()
}

func (s *Server) serve(w http.ResponseWriter, r *http.Request) {
	write := r.Method != http.MethodGet && r.Method != http.MethodOptions
	s.tmu.Lock()
	trouble := s.trouble
	switch {
	case write && s.lose > 0:
		s.lose--
		trouble = "lose"
	case write && s.busy > 0:
		s.busy--
		trouble = "busy"
	case s.noPush && strings.HasSuffix(r.URL.Path, "/events"):
		trouble = "absent"
	case s.noWait && r.URL.Query().Has("wait"):
		trouble = "broken"
	}
	s.tmu.Unlock()
	s.mu.RLock()
	h := s.server
	s.mu.RUnlock()
	if r.Method == http.MethodOptions && trouble != "cut" && trouble != "silent" { // which a browser asks before
		h.ServeHTTP(w, r)
		return
	}
	w.Header().Set("Access-Control-Allow-Origin", "*") // a browser shows a script nothing else
	w.Header().Set("Access-Control-Expose-Headers", "Retry-After")
	switch trouble {
	case "cut":
		panic(http.ErrAbortHandler)
	case "lose":
		h.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	case "portal":
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<html>Sign in to the garden's network")
	case "silent":
		_, _ = io.Copy(io.Discard, r.Body) // only then is it told when the client goes away
		select {
		case <-r.Context().Done():
		case <-time.After(20 * time.Second):
		}
	case "broken":
		w.WriteHeader(http.StatusBadGateway)
	case "absent":
		http.NotFound(w, r)
	case "busy":
		w.Header().Set("Content-Type", "application/problem+json")
		w.Header().Set("Retry-After", "1")
		w.WriteHeader(http.StatusTooManyRequests)
		_, _ = io.WriteString(w, `{"title":"Too Many Requests","status":429,"code":"rate-limited","detail":"too many"}`)
	case "other":
		rec := httptest.NewRecorder()
		ctx, cancel := context.WithCancel(r.Context())
		if strings.HasSuffix(r.URL.Path, "/events") {
			cancel() // of which nothing more comes
		}
		h.ServeHTTP(rec, r.WithContext(ctx))
		cancel()
		for name, v := range rec.Header() {
			w.Header()[name] = v
		}
		w.WriteHeader(rec.Code)
		_, _ = io.WriteString(w, strings.ReplaceAll(rec.Body.String(), `"board":"`, `"board":"elm-`))
	default:
		w.Header().Del("Access-Control-Allow-Origin")
		w.Header().Del("Access-Control-Expose-Headers")
		h.ServeHTTP(w, r)
	}
}
