package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

// wide lets a bench ask as fast as it can.
var wide = server.Limits{ClientRate: 1 << 24, AddressRate: 1 << 24, BoardRate: 1 << 24, WriteRate: 1 << 40, Streams: 5000}

// A sharedBench is a server with tokens, and a floor beside it.
type sharedBench struct {
	addr, token, link string
	srv               *server.Server
	floor             string
}

const benchBoard = "/v1/boards/rowan-street"

// fixed answers as the server does, with what it was given, and does nothing for it.
func fixed(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("If-None-Match") != "" {
		w.Header().Set("ETag", r.Header.Get("If-None-Match"))
		w.WriteHeader(http.StatusNotModified)
		return
	}
	_, _ = io.Copy(io.Discard, r.Body)
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("ETag", `"17-1777799564123"`)
	_, _ = w.Write([]byte(`{"name":"tank/litres","kind":"int","value":420,"version":17,"updated":"2026-05-03T09:12:44.123Z","by":"owner"}` + "\n"))
}

// withServer runs a server with tokens, and the floor, while f runs.
func withServer(f func(s *sharedBench) error) error {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s := &sharedBench{addr: l.Addr().String()}
	if s.srv, err = server.New(server.Options{Data: dir, Public: "http://" + s.addr, Limits: wide, Log: slog.New(slog.NewTextHandler(io.Discard, nil))}); err != nil {
		return errors.Join(err, l.Close())
	}
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- s.srv.Serve(ctx, l) }()
	fl, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		stop()
		return errors.Join(err, <-served, s.srv.Close())
	}
	s.floor = fl.Addr().String()
	floor := &http.Server{Handler: http.HandlerFunc(fixed), ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = floor.Serve(fl) }()
	s.link, _, err = s.srv.OwnerLink(ctx, "rowan-street")
	if err == nil {
		_, s.token, _ = strings.Cut(s.link, "#")
		err = f(s)
	}
	stop()
	return errors.Join(err, <-served, s.srv.Close(), floor.Close())
}

// against gives how many times as many as the floor a request is answered.
func (s *sharedBench) against(what string, one, floor shot, atLeast float64) (row, error) {
	const rounds, d = 7, 400 * time.Millisecond
	var got, base, ratios []float64
	for range rounds {
		b, err := fire(s.floor, s.token, floor, d)
		if err != nil {
			return row{}, err
		}
		g, err := fire(s.addr, s.token, one, d)
		if err != nil {
			return row{}, err
		}
		got, base, ratios = append(got, g), append(base, b), append(ratios, g/b)
	}
	return row{
		what: what, floor: "a net/http handler with a fixed answer", got: fmt.Sprintf("%.0f/s", median(got)), base: fmt.Sprintf("%.0f/s", median(base)),
		ratio: median(ratios), limit: atLeast, atLeast: true,
	}, nil
}

// calls measures the server's calls against the floor.
func calls() (rows []row, err error) {
	err = withServer(func(s *sharedBench) error {
		b, err := board.Join(s.link)
		if err != nil {
			return err
		}
		defer b.Close()
		if _, err := b.Put(context.Background(), "tank/litres", value.Int(420)); err != nil {
			return err
		}
		entry := shot{method: "GET", path: benchBoard + "/entries/tank/litres"}
		tagged := func(path string) (shot, error) {
			tag, err := s.tag(path)
			return shot{method: "GET", path: path, headers: []string{"If-None-Match: " + tag}}, err
		}
		entryTag, err := tagged(entry.path)
		if err != nil {
			return err
		}
		listTag, err := tagged(benchBoard + "/entries")
		if err != nil {
			return err
		}
		put := shot{method: "PUT", path: benchBoard + "/entries/tank/written-@", body: "42@"}
		add := shot{method: "POST", path: benchBoard + "/entries/tank/added", body: `{"op":"add","amount":1}`}
		for _, m := range []struct {
			what       string
			one, floor shot
			atLeast    float64
		}{
			{"conditional GET of an entry, answered 304, 64 connections", entryTag, entryTag, 0.8},
			{"conditional GET of an unchanged list, answered 304", listTag, entryTag, 0.8},
			{"GET of an entry", entry, entry, 0.75},
			{"durable PUT", put, put, 0.5},
			{"durable add", add, put, 0.5},
		} {
			r, err := s.against(m.what, m.one, m.floor, m.atLeast)
			if err != nil {
				return err
			}
			rows = append(rows, r)
		}
		for _, measure := range []func() ([]row, error){s.deltas, s.streams} {
			r, err := measure()
			if err != nil {
				return err
			}
			rows = append(rows, r...)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	idle, err := idleServer()
	return append(rows, idle...), err
}

// tag gives the entity tag of an answer.
func (s *sharedBench) tag(path string) (string, error) {
	req, err := http.NewRequest(http.MethodGet, "http://"+s.addr+path, nil)
	if err != nil {
		return "", err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	_, err = io.Copy(io.Discard, resp.Body)
	return resp.Header.Get("ETag"), err
}

// deltas compares an unchanged delta poll of a board with 10,000 names with one of one.
func (s *sharedBench) deltas() ([]row, error) {
	poll := func() (shot, error) {
		tag, err := s.tag(benchBoard + "/entries?limit=1")
		mark, _, _ := strings.Cut(strings.TrimPrefix(tag, `W/"`), `"`)
		mark = mark[:strings.LastIndex(mark, ".")]
		return shot{method: "GET", path: benchBoard + "/entries?since=" + mark}, err
	}
	one, err := poll()
	if err != nil {
		return nil, err
	}
	measure := func(of shot) (float64, error) {
		var all []float64
		for range 5 {
			n, err := fire(s.addr, s.token, of, 400*time.Millisecond)
			if err != nil {
				return 0, err
			}
			all = append(all, n)
		}
		return median(all), nil
	}
	few, err := measure(one)
	if err != nil {
		return nil, err
	}
	b, err := board.Join(s.link)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	for n := 0; n < 9_810; n += 545 {
		var ops []board.Op
		for i := range 545 {
			ops = append(ops, board.Op{Name: fmt.Sprintf("beds/%d", n+i), Op: value.Op{Verb: value.Put, Operand: value.Int(int64(i))}})
		}
		if _, err := b.Commit(context.Background(), ops...); err != nil {
			return nil, err
		}
	}
	if one, err = poll(); err != nil {
		return nil, err
	}
	many, err := measure(one)
	return []row{{
		what: "an unchanged delta poll of a board with 9,900 names", floor: "with 67 names", got: fmt.Sprintf("%.0f/s", many), base: fmt.Sprintf("%.0f/s", few),
		ratio: few / many, limit: 1.3,
	}}, err
}

// streams measures how soon 2,000 streams are told of a change, and what each holds.
func (s *sharedBench) streams() ([]row, error) {
	const many = 2000
	request := shot{method: "GET", path: benchBoard + "/events?name=tank/litres"}.bytes(s.addr, s.token)
	var conns []net.Conn
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	told := make(chan time.Time, many)
	var ready sync.WaitGroup
	for range many {
		conn, err := net.Dial("tcp", s.addr)
		if err != nil {
			return nil, err
		}
		conns = append(conns, conn)
		if _, err := conn.Write(request); err != nil {
			return nil, err
		}
		ready.Add(1)
		go func() {
			in := bufio.NewReaderSize(conn, 512)
			first := true
			for {
				line, err := in.ReadSlice('\n')
				if err != nil && err != bufio.ErrBufferFull {
					return
				}
				if !bytes.HasPrefix(line, []byte("data:")) {
					continue
				}
				if first {
					first = false
					ready.Done()
					continue
				}
				told <- time.Now()
			}
		}()
	}
	ready.Wait()
	b, err := board.Join(s.link)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	var slowest []time.Duration
	for n := range 5 {
		start := time.Now()
		if _, err := b.Put(context.Background(), "tank/litres", value.Int(int64(1000+n))); err != nil {
			return nil, err
		}
		var last time.Time
		for range many {
			if at := <-told; at.After(last) {
				last = at
			}
		}
		slowest = append(slowest, last.Sub(start))
	}
	took := median(slowest)
	return []row{{what: "a change told to 2,000 streams, all of them", got: fmt.Sprintf("%d ms", took.Milliseconds()), note: "at most 250 ms", bad: took > 250*time.Millisecond}}, nil
}
