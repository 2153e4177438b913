package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
)

// A bench server is one of its own on a free port, which counts what goes in and out.
type benchServer struct {
	link     string
	requests atomic.Int64
	bytes    atomic.Int64 // in both directions, heads too
}

// serving runs a server in development mode while f runs.
func serving(f func(s *benchServer) error) error {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	srv, err := server.New(server.Options{Data: dir, Dev: true, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return errors.Join(err, srv.Close())
	}
	s := &benchServer{link: "http://" + l.Addr().String() + "/boards/rowan-street"}
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- srv.Serve(ctx, l) }()
	err = f(s)
	stop()
	return errors.Join(err, <-served, srv.Close())
}

// counted is a client whose requests and bytes are counted.
func (s *benchServer) counted() *http.Client {
	dial := func(ctx context.Context, network, addr string) (net.Conn, error) {
		c, err := (&net.Dialer{}).DialContext(ctx, network, addr)
		return countedConn{c, s}, err
	}
	return &http.Client{Transport: countedTransport{&http.Transport{DialContext: dial}, s}}
}

type countedTransport struct {
	*http.Transport
	s *benchServer
}

func (t countedTransport) RoundTrip(r *http.Request) (*http.Response, error) {
	t.s.requests.Add(1)
	return t.Transport.RoundTrip(r)
}

type countedConn struct {
	net.Conn
	s *benchServer
}

func (c countedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.s.bytes.Add(int64(n))
	return n, err
}

func (c countedConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.s.bytes.Add(int64(n))
	return n, err
}

var litres = pantry.Int("tank/litres", 0)

// boards measures the client of the shared store.
func boards() (rows []row, err error) {
	err = serving(func(s *benchServer) error {
		for _, measure := range []func(*benchServer) ([]row, error){getOnABoard, seenByPush, quietMinute, manyBoards} {
			r, err := measure(s)
			if err != nil {
				return err
			}
			rows = append(rows, r...)
		}
		return nil
	})
	return rows, err
}

func getOnABoard(s *benchServer) ([]row, error) {
	b, err := board.Join(s.link)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	tank := board.On(b, litres)
	if err := tank.Set(context.Background(), 420); err != nil {
		return nil, err
	}
	if err := b.Ready(context.Background()); err != nil {
		return nil, err
	}
	get := func(n int) {
		last := 0
		for range n {
			last += tank.Get()
		}
		runtime.KeepAlive(last)
	}
	allocs := testing.AllocsPerRun(1000, func() { get(1) })
	return []row{
		compared("Get of a bound int variable on a board", twoLoads, paired(21, 2_000_000, get, intLoads()), 5),
		{what: "its allocations", got: fmt.Sprint(allocs), note: "0", bad: allocs > 0},
	}, nil
}

// seenByPush measures how soon a change of one client is seen by another.
func seenByPush(s *benchServer) ([]row, error) {
	one, err := board.Join(s.link)
	if err != nil {
		return nil, err
	}
	defer one.Close()
	two, err := board.Join(s.link)
	if err != nil {
		return nil, err
	}
	defer two.Close()
	from, to := board.On(one, litres), board.On(two, litres)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	if err := errors.Join(one.Ready(ctx), two.Ready(ctx)); err != nil {
		return nil, err
	}
	seen := make(chan int, 100)
	go func() {
		for state := range to.Watch(ctx) {
			seen <- state.Value
		}
	}()
	for two.Status().Way != "push" {
		time.Sleep(time.Millisecond)
	}
	var took []time.Duration
	for n := range 300 {
		start := time.Now()
		if err := from.Set(ctx, 1000+n); err != nil {
			return nil, err
		}
		for v := range seen {
			if v == 1000+n {
				break
			}
		}
		took = append(took, time.Since(start))
	}
	p50 := median(took)
	return []row{{
		what: "from the call of a Set on a board to the body of another client's Watch, by push, p50",
		got:  fmt.Sprintf("%.2f ms", float64(p50.Microseconds())/1000), note: "at most 5 ms", bad: p50 > 5*time.Millisecond,
	}}, nil
}

// quietMinute measures what an idle client asks in a minute in which nothing happens, by
// each way.
func quietMinute(s *benchServer) (rows []row, err error) {
	const minute = time.Minute
	type way struct {
		name string
		opts []board.Option
		of   *benchServer
	}
	noStream := func(of *benchServer) *http.Client {
		c := of.counted()
		c.Transport = withoutStreams{c.Transport}
		return c
	}
	ways := []*way{{name: "push"}, {name: "wait"}, {name: "poll", opts: []board.Option{board.WithoutPush()}}}
	for _, w := range ways {
		w.of = &benchServer{}
		client := w.of.counted()
		if w.name == "wait" {
			client = noStream(w.of)
		}
		b, err := board.Join(s.link, append(w.opts, board.HTTPClient(client))...)
		if err != nil {
			return nil, err
		}
		defer b.Close()
		board.On(b, litres)
		if err := b.Ready(context.Background()); err != nil {
			return nil, err
		}
		for b.Status().Way != w.name {
			if time.Sleep(10 * time.Millisecond); w.name == "wait" && w.of.requests.Load() > 1 {
				break // it is answered when there is news
			}
		}
	}
	time.Sleep(30 * time.Second) // after which a poll has slowed down
	for _, w := range ways {
		w.of.requests.Store(0)
		w.of.bytes.Store(0)
	}
	time.Sleep(minute)
	for _, w := range ways {
		n, kb := w.of.requests.Load(), float64(w.of.bytes.Load())/1000
		rows = append(rows, row{
			what: "an idle client in a quiet minute, by " + w.name,
			got:  fmt.Sprintf("%d requests, %.1f KB", n, kb),
			base: fmt.Sprintf("thirty of them: %d, %.0f KB", 30*n, 30*kb), note: "at most 8 requests, 8 KB", bad: n > 8 || kb > 8,
		})
	}
	return rows, nil
}

// withoutStreams is a network in which streams don't work.
type withoutStreams struct{ http.RoundTripper }

func (w withoutStreams) RoundTrip(r *http.Request) (*http.Response, error) {
	if strings.HasSuffix(r.URL.Path, "/events") {
		return &http.Response{StatusCode: http.StatusNotFound, Header: http.Header{}, Body: http.NoBody, Request: r, ProtoMajor: 1, ProtoMinor: 1}, nil
	}
	return w.RoundTripper.RoundTrip(r)
}

// manyBoards has 500 clients in one process follow one board.
func manyBoards(s *benchServer) ([]row, error) {
	const many = 500
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: many}}
	before, goroutines := heap(), runtime.NumGoroutine()
	var boards []*board.Board
	var vars []board.Var[int]
	defer func() {
		var all sync.WaitGroup
		for _, b := range boards {
			all.Go(func() { _ = b.Close() })
		}
		all.Wait()
		client.CloseIdleConnections()
	}()
	for range many {
		b, err := board.Join(s.link, board.HTTPClient(client))
		if err != nil {
			return nil, err
		}
		boards, vars = append(boards, b), append(vars, board.On(b, litres))
	}
	for _, b := range boards {
		if err := b.Ready(context.Background()); err != nil {
			return nil, err
		}
	}
	for _, b := range boards {
		for b.Status().Way != "push" {
			time.Sleep(time.Millisecond)
		}
	}
	kb := float64(heap()-before) / many / 1000
	per := float64(runtime.NumGoroutine()-goroutines) / many
	start := time.Now()
	if err := vars[0].Set(context.Background(), 7); err != nil {
		return nil, err
	}
	for _, v := range vars {
		for v.Get() != 7 {
			time.Sleep(50 * time.Microsecond)
		}
	}
	took := time.Since(start)
	return []row{{
		what: "500 clients and their server in one process: memory and goroutines of each, both ends",
		got:  fmt.Sprintf("%.0f KB, %.1f", kb, per), note: "at most 250 KB, 12", bad: kb > 250 || per > 12,
	}, {
		what: "a change of one of them is seen by all",
		got:  fmt.Sprintf("%d ms", took.Milliseconds()), note: "at most 250 ms", bad: took > 250*time.Millisecond,
	}}, nil
}
