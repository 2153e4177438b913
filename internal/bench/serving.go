package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

// wide are limits that a benchmark does not reach.
var wide = server.Limits{ClientRate: 1 << 24, AddressRate: 1 << 24, BoardRate: 1 << 24, WriteRate: 1 << 40, Streams: 5000}

const path = "/v1/boards/rowan-street"

// A site is a server with tokens, and a floor beside it: a net/http server with the same timeouts whose
// handler reads the body and answers the same bytes.
type site struct {
	addr, token, link string
	floor             string
	fixed             fixed
}

// serving calls f with a site.
func serving(f func(s *site) error) error {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s := &site{addr: l.Addr().String(), fixed: fixed{status: http.StatusOK, body: bytes.Repeat([]byte("litres "), 20)}}
	srv, err := server.New(server.Options{Data: dir, Public: "http://" + s.addr, Limits: wide, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return errors.Join(err, l.Close())
	}
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- srv.Serve(ctx, l) }()
	floor := httptest.NewUnstartedServer(&s.fixed)
	floor.Config.ReadHeaderTimeout, floor.Config.ReadTimeout = 5*time.Second, 60*time.Second
	floor.Config.WriteTimeout, floor.Config.IdleTimeout = 75*time.Second, 60*time.Second
	floor.Start()
	s.floor = strings.TrimPrefix(floor.URL, "http://")
	s.link, _, err = srv.OwnerLink(ctx, "rowan-street")
	if err == nil {
		_, s.token, _ = strings.Cut(s.link, "#")
		err = f(s)
	}
	stop()
	floor.CloseClientConnections()
	floor.Close()
	return errors.Join(err, <-served, srv.Close())
}

// A fixed is the floor of a call: it answers what the server has answered once.
type fixed struct {
	status int
	header http.Header
	body   []byte
}

func (f *fixed) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	_, _ = io.Copy(io.Discard, r.Body)
	maps.Copy(w.Header(), f.header)
	w.WriteHeader(f.status)
	_, _ = w.Write(f.body)
}

// fix sends a request and has the floor answer the same from now on.
func (s *site) fix(one request) error {
	req, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(one.bytes(s.addr, s.token, 0, 0))))
	if err != nil {
		return err
	}
	req.RequestURI, req.URL.Scheme, req.URL.Host = "", "http", s.addr
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		return err
	}
	s.fixed = fixed{status: resp.StatusCode, header: resp.Header}
	resp.Header.Del("Date") // net/http adds it, and the length
	resp.Header.Del("Content-Length")
	s.fixed.body, err = io.ReadAll(resp.Body)
	return errors.Join(err, resp.Body.Close())
}

// join calls f with a client of the site's board.
func (s *site) join(f func(b *board.Board) error) error {
	b, err := board.Join(s.link)
	if err != nil {
		return err
	}
	return errors.Join(f(b), b.Close())
}

// connections is how many requests are under way at once.
const connections = 64

// A request is sent over and over. In its path @ is the number of the connection, and in its body
// another digit each time.
type request struct {
	method, path, body string
	headers            []string
}

func (r request) bytes(host, token string, conn, digit int) []byte {
	body := strings.ReplaceAll(r.body, "@", strconv.Itoa(digit))
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: %s\r\n", r.method, strings.ReplaceAll(r.path, "@", strconv.Itoa(conn)), host)
	if token != "" {
		fmt.Fprintf(&b, "Authorization: Bearer %s\r\n", token)
	}
	for _, h := range r.headers {
		b.WriteString(h + "\r\n")
	}
	if body != "" {
		fmt.Fprintf(&b, "Content-Type: application/json\r\nContent-Length: %d\r\n", len(body))
	}
	b.WriteString("\r\n" + body)
	return b.Bytes()
}

// load sends a request over all connections, which each have answered a few already: phones keep theirs
// open. It does as little besides as it can, so that the server is what is measured.
func load(addr, token string, r request) func(b *testing.B) {
	return func(b *testing.B) {
		var left atomic.Int64
		left.Store(int64(b.N))
		var all, connected sync.WaitGroup
		begin := make(chan struct{})
		for i := range min(connections, b.N) {
			both := [][]byte{r.bytes(addr, token, i, 0), r.bytes(addr, token, i, 1)}
			connected.Add(1)
			all.Go(func() {
				conn, err := net.Dial("tcp", addr)
				if err != nil {
					connected.Done()
					b.Error(err)
					return
				}
				defer conn.Close()
				in := bufio.NewReaderSize(conn, 32<<10)
				send := func(n int) bool {
					if _, err = conn.Write(both[n%2]); err == nil {
						err = readAnswer(in)
					}
					if err != nil {
						b.Errorf("%s %s: %v", r.method, r.path, err)
					}
					return err == nil
				}
				for n := 0; n < 10 && send(n); n++ {
				}
				connected.Done()
				<-begin
				for n := 0; left.Add(-1) >= 0 && send(n); n++ {
				}
			})
		}
		connected.Wait()
		b.ResetTimer()
		close(begin)
		all.Wait()
		b.StopTimer()
	}
}

// readAnswer reads an answer, which must be a success.
func readAnswer(in *bufio.Reader) error {
	line, err := in.ReadSlice('\n')
	if err != nil {
		return err
	}
	if len(line) < 12 || line[9] > '3' {
		return fmt.Errorf("answered %q", line)
	}
	length := 0
	for {
		if line, err = in.ReadSlice('\n'); err != nil {
			return err
		}
		if len(line) <= 2 {
			_, err = in.Discard(length)
			return err
		}
		if rest, is := bytes.CutPrefix(line, []byte("Content-Length: ")); is {
			if length, err = strconv.Atoi(strings.TrimSpace(string(rest))); err != nil {
				return err
			}
		}
	}
}

// tag returns the entity tag of a path's answer.
func (s *site) tag(path string) (string, error) {
	req, err := http.NewRequest(http.MethodGet, "http://"+s.addr+path, nil)
	if err != nil {
		return "", err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	_, err = io.Copy(io.Discard, resp.Body)
	return resp.Header.Get("ETag"), errors.Join(err, resp.Body.Close())
}

// unchanged returns a conditional GET that is answered 304.
func (s *site) unchanged(path string) (request, error) {
	tag, err := s.tag(path)
	return request{method: "GET", path: path, headers: []string{"If-None-Match: " + tag}}, err
}

// calls compares the server's calls with the floor.
func calls(s *suite) error {
	return serving(func(at *site) error {
		return at.join(func(b *board.Board) error {
			if _, err := b.Put(context.Background(), "tank/litres", value.Int(420)); err != nil {
				return err
			}
			entry := request{method: "GET", path: path + "/entries/tank/litres"}
			tagged, err1 := at.unchanged(entry.path)
			list, err2 := at.unchanged(path + "/entries")
			put := request{method: "PUT", path: path + "/entries/tank/written-@", body: "42@"}
			add := request{method: "POST", path: path + "/entries/tank/added", body: `{"op":"add","amount":1}`}
			errs := []error{err1, err2}
			for _, c := range []struct {
				what  string
				one   request
				limit float64
			}{
				{"conditional GET of an entry, answered 304, over 64 connections", tagged, 0.75},
				{"conditional GET of an unchanged list, answered 304", list, 0.75},
				{"GET of an entry", entry, 0.75},
				{"durable PUT", put, 0.36},
				{"durable add", add, 0.36},
			} {
				errs = append(errs, at.fix(c.one), s.compare(row{what: c.what, floor: "a net/http handler that answers the same bytes", limit: c.limit, atLeast: true, unit: perSecond},
					rateOf(load(at.addr, at.token, c.one)), rateOf(load(at.floor, at.token, c.one))))
			}
			errs = append(errs, serving(func(few *site) error { return errors.Join(deltas(s, few, at, b), besideStreams(s, few, at)) }), manyStreamsWatch(s, at))
			return errors.Join(errs...)
		})
	})
}

// deltas compares a poll without news of a board with 9,900 names with one of a board without names.
func deltas(s *suite, few, many *site, b *board.Board) error {
	poll := func(of *site) (func(b *testing.B), error) {
		tag, err := of.tag(path + "/entries?limit=1")
		mark, _, _ := strings.Cut(strings.TrimPrefix(tag, `W/"`), `"`)
		return load(of.addr, of.token, request{method: "GET", path: path + "/entries?since=" + mark[:strings.LastIndex(mark, ".")]}), err
	}
	for n := 0; n < 9_810; n += 545 {
		var ops []board.Op
		for i := range 545 {
			ops = append(ops, board.Op{Name: fmt.Sprintf("beds/%d", n+i), Op: value.Op{Verb: value.Put, Operand: value.Int(int64(i))}})
		}
		if _, err := b.Commit(context.Background(), ops...); err != nil {
			return err
		}
	}
	large, err1 := poll(many)
	small, err2 := poll(few)
	return errors.Join(err1, err2, s.time(row{what: "a poll without news of a board with 9,900 names", floor: "of a board without names", limit: 1.3}, large, small))
}
