package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

var litres = pantry.Int("tank/litres", 0)

// clients measures the client of the shared store.
func clients(s *suite) error {
	return serving(func(site *site) error {
		return errors.Join(
			site.join(func(b *board.Board) error {
				tank := board.On(b, litres)
				if err := errors.Join(tank.Set(context.Background(), 420), b.Ready(context.Background())); err != nil {
					return err
				}
				return s.time(row{what: "Get of an int on a board", floor: "two loads: an atomic pointer and its target", limit: 2.5}, func(b *testing.B) {
					var last int
					for range b.N {
						last = tank.Get()
					}
					runtime.KeepAlive(last)
				}, loads[int]())
			}),
			site.join(func(one *board.Board) error {
				return site.join(func(two *board.Board) error { return pushed(s, site, one, two) })
			}),
			manyClients(s, site),
		)
	})
}

// pushed compares a Set on a board until another client's Watch has it with one request to the floor.
func pushed(s *suite, site *site, one, two *board.Board) error {
	from, to := board.On(one, litres), board.On(two, litres)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	if err := errors.Join(one.Ready(ctx), two.Ready(ctx)); err != nil {
		return err
	}
	seen := make(chan int)
	var watching sync.WaitGroup
	watching.Go(func() {
		for state := range to.Watch(ctx) {
			select {
			case seen <- state.Value:
			case <-ctx.Done():
			}
		}
	})
	defer watching.Wait()
	defer stop()
	go func() { // what was there before the benchmark
		for two.Status().Way != "push" {
			time.Sleep(time.Millisecond)
		}
	}()
	n := 1000
	return s.time(row{what: "from a Set on a board to another client's Watch, by push", floor: "a request to a net/http handler by net/http's client", limit: 10}, func(b *testing.B) {
		for range b.N {
			n++
			done := make(chan error, 1)
			go func() { done <- from.Set(ctx, n) }()
			for <-seen != n {
			}
			if err := <-done; err != nil {
				b.Fatal(err)
			}
		}
	}, func(b *testing.B) {
		for range b.N {
			resp, err := http.Get("http://" + site.floor + "/")
			if err == nil {
				_, err = bufio.NewReader(resp.Body).Discard(64)
				err = errors.Join(err, resp.Body.Close())
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	})
}

// manyClients compares the memory of 300 clients of a board and their server with that of 300 clients
// of net/http that read a stream, and theirs.
func manyClients(s *suite, site *site) error {
	const many = 300
	s, rounds := s, s.rounds
	s.rounds = min(rounds, 3)
	defer func() { s.rounds = rounds }()
	return s.compare(row{what: fmt.Sprintf("memory of %d clients and their server, in one process", many), floor: "of as many streams between net/http's client and server", limit: 6.5, unit: kilobytes},
		held(func() (any, func() error, error) { return openClients(site.link, many) }), held(func() (any, func() error, error) { return openStreams(many) }))
}

// openClients joins a board many times. Each client has its stream.
func openClients(link string, many int) (held any, end func() error, err error) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: many}}
	var boards []*board.Board
	var vars []board.Var[int]
	for range many {
		b, err := board.Join(link, board.HTTPClient(client))
		if err != nil {
			return nil, nil, err
		}
		boards, vars = append(boards, b), append(vars, board.On(b, litres))
	}
	for _, b := range boards {
		if err := b.Ready(context.Background()); err != nil {
			return nil, nil, err
		}
		for b.Status().Way != "push" {
			time.Sleep(time.Millisecond)
		}
	}
	return vars, func() error {
		var all sync.WaitGroup
		for _, b := range boards {
			all.Go(func() { _ = b.Close() })
		}
		all.Wait()
		client.CloseIdleConnections()
		return nil
	}, nil
}

// openStreams opens a stream of a net/http server many times.
func openStreams(many int) (held any, end func() error, err error) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = fmt.Fprint(w, "data: hello\n\n")
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
	}))
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: many}}
	ctx, stop := context.WithCancel(context.Background())
	var readers sync.WaitGroup
	var open []*http.Response
	for range many {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, srv.URL, nil)
		if err != nil {
			stop()
			return nil, nil, err
		}
		resp, err := client.Do(req)
		if err != nil {
			stop()
			return nil, nil, err
		}
		in := bufio.NewReader(resp.Body)
		if _, err := in.ReadString('\n'); err != nil {
			stop()
			return nil, nil, err
		}
		open = append(open, resp)
		readers.Go(func() {
			for _, err := in.ReadByte(); err == nil; _, err = in.ReadByte() {
			}
		})
	}
	return open, func() error {
		stop()
		readers.Wait()
		srv.CloseClientConnections()
		srv.Close()
		return nil
	}, nil
}
