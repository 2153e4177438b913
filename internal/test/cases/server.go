package cases

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/small-pantry/pantry/pantrytest/boardtest"
)

// A Server is a real one behind a proxy that can cause trouble.
type Server struct {
	t     testing.TB
	real  *boardtest.Server
	proxy *httputil.ReverseProxy
	http  *httptest.Server

	mu      sync.Mutex // guards what follows
	trouble string
	lose    int // answers to writes
	busy    bool
	noPush  bool
	noWait  bool
	holds   bool            // streams
	arrived map[string]int  // by their Idempotency-Key, writes that reached the server
	waiting context.Context // of streams and of requests that wait
	endWait context.CancelFunc
}

// NewServer starts a server, which stops with the test.
func NewServer(t testing.TB) *Server {
	t.Helper()
	s := &Server{t: t, real: boardtest.NewServer(t), arrived: map[string]int{}}
	to, err := url.Parse(strings.TrimSuffix(s.real.Link(""), "/boards/"))
	if err != nil {
		t.Fatal(err)
	}
	s.proxy = &httputil.ReverseProxy{
		Rewrite:       func(r *httputil.ProxyRequest) { r.SetURL(to) },
		FlushInterval: -1, // streams
		ErrorHandler:  func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) },
	}
	s.waiting, s.endWait = context.WithCancel(context.Background())
	s.http = httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(func() {
		s.http.CloseClientConnections()
		s.http.Close()
	})
	return s
}

// Link returns the link of a board.
func (s *Server) Link(board string) string { return s.http.URL + "/boards/" + board }

// Do has something happen:
//
//	lose N                 answers to writes, though they are done
//	busy                   the next write is to come again in a second
//	portal                 everything is answered with a page for people
//	redirect, blocked, missing, half
//	                       with a redirect, a page with 403 or 404, half a JSON
//	other                  with what is of another board
//	broken                 with 502
//	silent                 nothing comes, and nothing ends
//	cut                    nothing is answered
//	drop                   what is open breaks off, once
//	no streams, no waits   something on the way doesn't let them through; those under way break off
//	hold streams           it holds them back without an end; those under way break off
//	remove                 the board is removed
//	restart                the server restarts
//	back                   all is well again
func (s *Server) Do(board, what string) {
	s.mu.Lock()
	cuts, endWait := true, func() {}
	switch what {
	case "busy":
		s.busy, cuts = true, false
	case "no streams", "no waits", "hold streams": // they leave other requests alone
		s.noPush, s.noWait, s.holds = s.noPush || what == "no streams", s.noWait || what == "no waits", s.holds || what == "hold streams"
		endWait, cuts = s.endWait, false
		s.waiting, s.endWait = context.WithCancel(context.Background())
	case "back":
		s.trouble, s.lose, s.busy, s.noPush, s.noWait, s.holds, cuts = "", 0, false, false, false, false, false
	case "portal", "redirect", "blocked", "missing", "half", "other", "broken", "unavailable", "silent", "cut":
		s.trouble = what
	case "drop":
	case "remove", "restart":
		cuts = false
	default:
		cuts = false
		if _, err := fmt.Sscanf(what, "lose %d", &s.lose); err != nil {
			s.t.Errorf("a case wants %q, which nothing does", what)
		}
	}
	s.mu.Unlock()
	endWait()
	switch {
	case what == "remove":
		s.ask(http.MethodDelete, board, "", "")
	case what == "restart":
		s.real.Restart()
	case cuts:
		s.http.CloseClientConnections()
	}
}

// Arrived returns how often each write has reached the server, by its Idempotency-Key.
func (s *Server) Arrived() map[string]int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.arrived)
}

// Others makes an op on an entry as another client, past any trouble.
func (s *Server) Others(board, name, op string) {
	s.ask(http.MethodPost, board, "/commit", fmt.Sprintf(`{"ops":[{"name":%q,%s]}`, name, strings.TrimPrefix(strings.TrimSpace(op), "{")))
}

// Holds returns an entry as the server has it.
func (s *Server) Holds(board, name string) string {
	return s.ask(http.MethodGet, board, "/entries/"+name, "")
}

// ask asks the server itself.
func (s *Server) ask(method, board, path, body string) string {
	req, err := http.NewRequest(method, strings.Replace(s.real.Link(board), "/boards/", "/v1/boards/", 1)+path, strings.NewReader(body))
	if err == nil {
		req.Header.Set("Content-Type", "application/json")
		var resp *http.Response
		if resp, err = http.DefaultClient.Do(req); err == nil {
			defer resp.Body.Close()
			raw, bad := io.ReadAll(resp.Body)
			if err = bad; err == nil && resp.StatusCode < 400 {
				return string(raw)
			}
			err = fmt.Errorf("%d %s: %w", resp.StatusCode, raw, err)
		}
	}
	s.t.Errorf("%s %s %s: %v", method, path, body, err)
	return ""
}

// next returns the trouble of a request, and the context of requests that wait.
func (s *Server) next(r *http.Request) (trouble string, waiting context.Context) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.troubleOf(r), s.waiting
}

// troubleOf returns the trouble of a request, empty for none. mu must be held.
func (s *Server) troubleOf(r *http.Request) string {
	write := r.Method != http.MethodGet && r.Method != http.MethodOptions
	switch {
	case write && s.lose > 0:
		s.lose--
		return "lose"
	case write && s.busy:
		s.busy = false
		return "busy"
	case s.noPush && strings.HasSuffix(r.URL.Path, "/events"):
		return "absent"
	case s.holds && strings.HasSuffix(r.URL.Path, "/events"):
		return "silent"
	case s.noWait && r.URL.Query().Has("wait"):
		return "broken"
	case s.trouble == "unavailable" && !write: // a poll that heeds Retry-After would hold the write back
		return ""
	case r.Method == http.MethodOptions && s.trouble != "cut" && s.trouble != "silent": // which a browser asks before
		return ""
	}
	return s.trouble
}

func (s *Server) serve(w http.ResponseWriter, r *http.Request) {
	trouble, waiting := s.next(r)
	if trouble == "" {
		if key := r.Header.Get("Idempotency-Key"); key != "" {
			s.mu.Lock()
			s.arrived[key]++
			s.mu.Unlock()
		}
		if strings.HasSuffix(r.URL.Path, "/events") || r.URL.Query().Has("wait") {
			ctx, cancel := context.WithCancel(r.Context())
			defer cancel()
			defer context.AfterFunc(waiting, cancel)()
			r = r.WithContext(ctx)
		}
		s.proxy.ServeHTTP(w, r)
		return
	}
	h := w.Header()
	h.Set("Access-Control-Allow-Origin", "*") // a browser shows a script nothing else
	h.Set("Access-Control-Expose-Headers", "Retry-After")
	switch trouble {
	case "cut":
		panic(http.ErrAbortHandler)
	case "lose":
		s.proxy.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	case "portal":
		h.Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<html>Sign in to the garden's network")
	case "silent":
		_, _ = io.Copy(io.Discard, r.Body) // only then is it told when the client goes away
		select {
		case <-r.Context().Done():
		case <-time.After(20 * time.Second):
		}
	case "broken":
		w.WriteHeader(http.StatusBadGateway)
	case "unavailable":
		h.Set("Content-Type", "application/problem+json")
		h.Set("Retry-After", "60")
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = io.WriteString(w, `{"title":"Service Unavailable","status":503,"code":"unavailable","detail":"nothing was done"}`)
	case "redirect":
		http.Redirect(w, r, "http://sign-in.example/", http.StatusFound)
	case "blocked":
		http.Error(w, "blocked", http.StatusForbidden)
	case "missing":
		http.Error(w, "there is nothing here", http.StatusNotFound)
	case "half":
		h.Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"board":"board`)
	case "absent":
		http.NotFound(w, r)
	case "busy":
		h.Set("Content-Type", "application/problem+json")
		h.Set("Retry-After", "1")
		w.WriteHeader(http.StatusTooManyRequests)
		_, _ = io.WriteString(w, `{"title":"Too Many Requests","status":429,"code":"rate-limited","detail":"too many"}`)
	case "other":
		if strings.HasSuffix(r.URL.Path, "/events") { // it does not end
			http.NotFound(w, r)
			return
		}
		rec := httptest.NewRecorder()
		s.proxy.ServeHTTP(rec, r)
		rec.Header().Del("Content-Length")
		for name, v := range rec.Header() {
			h[name] = v
		}
		w.WriteHeader(rec.Code)
		_, _ = io.WriteString(w, strings.ReplaceAll(rec.Body.String(), `"board":"`, `"board":"elm-`))
	}
}
