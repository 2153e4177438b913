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
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

// connections is how many ask at the same time.
const connections = 64

// A shot is a request as it is sent, over and over. In its path @ is the number of the
// connection, and in its body another digit each time.
type shot struct {
	method, path, body string
	headers            []string
}

// of gives the two requests that a connection sends in turn.
func (s shot) of(conn int, host, token string) (both [2][]byte) {
	for i := range both {
		one := s
		one.path = strings.ReplaceAll(s.path, "@", strconv.Itoa(conn))
		one.body = strings.ReplaceAll(s.body, "@", strconv.Itoa(i))
		both[i] = one.bytes(host, token)
	}
	return both
}

func (s shot) bytes(host, token string) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\n", s.method, s.path, host, token)
	for _, h := range s.headers {
		b.WriteString(h + "\r\n")
	}
	if s.body != "" {
		fmt.Fprintf(&b, "Content-Type: application/json\r\nContent-Length: %d\r\n", len(s.body))
	}
	b.WriteString("\r\n" + s.body)
	return b.Bytes()
}

// fire sends a request over all connections for a while, and gives how many were answered a
// second. It does as little as it can besides, so that what is measured is the server.
func fire(addr, token string, one shot, d time.Duration) (perSecond float64, err error) {
	var answered atomic.Int64
	var all sync.WaitGroup
	errs := make(chan error, connections)
	until := time.Now().Add(d)
	start := time.Now()
	for i := range connections {
		requests := one.of(i, addr, token)
		all.Go(func() {
			conn, err := net.Dial("tcp", addr)
			if err != nil {
				errs <- err
				return
			}
			defer conn.Close()
			in := bufio.NewReaderSize(conn, 32<<10)
			for n := 0; time.Now().Before(until); n++ {
				if _, err = conn.Write(requests[n%2]); err == nil {
					err = readAnswer(in)
				}
				if err != nil {
					errs <- err
					return
				}
				answered.Add(1)
			}
		})
	}
	all.Wait()
	select {
	case err := <-errs:
		return 0, fmt.Errorf("%s %s: %w", one.method, one.path, err)
	default:
	}
	return float64(answered.Load()) / time.Since(start).Seconds(), nil
}

// readAnswer reads an answer, which must be one that went well.
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
	for n := 0; n < 9_990; n += 555 {
		var ops []board.Op
		for i := range 555 {
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
		what: "an unchanged delta poll of a board with 10,000 names", floor: "with 3 names", got: fmt.Sprintf("%.0f/s", many), base: fmt.Sprintf("%.0f/s", few),
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

// idleServer measures the command that serves: at rest, with 3,000 boards on the disk, and
// how long a list of them takes.
func idleServer() (rows []row, err error) {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	path, err := built(dir, "smallpantry", "./cmd/smallpantry")
	if err != nil {
		return nil, err
	}
	for _, boards := range []int{0, 3000} {
		data := filepath.Join(dir, fmt.Sprint("data", boards))
		if err := fillBoards(data, boards); err != nil {
			return nil, err
		}
		r, err := atRest(path, data, boards)
		if err != nil {
			return nil, err
		}
		rows = append(rows, r...)
	}
	return rows, nil
}

// fillBoards makes boards with an entry each.
func fillBoards(data string, n int) error {
	s, err := server.New(server.Options{Data: data, Dev: true, Limits: server.Limits{Boards: 10_000}, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	if n > 0 {
		if _, _, err = s.OwnerLink(context.Background(), "board-0"); errors.Is(err, server.ErrPublic) {
			err = nil
		}
	}
	if err = errors.Join(err, s.Close()); err != nil || n == 0 {
		return err
	}
	// One made by the server, copied: each is a board of its own to whoever lists them.
	if s, err = server.New(server.Options{Data: data, Dev: true, Public: "http://localhost", Log: slog.New(slog.DiscardHandler)}); err != nil {
		return err
	}
	_, _, err = s.OwnerLink(context.Background(), "board-0")
	if err = errors.Join(err, s.Close()); err != nil {
		return err
	}
	first, err := os.ReadFile(filepath.Join(data, "boards", "board-0.jsonl"))
	for i := 1; i < n && err == nil; i++ {
		name := fmt.Sprint("board-", i)
		err = os.WriteFile(filepath.Join(data, "boards", name+".jsonl"), bytes.ReplaceAll(first, []byte(`"board-0"`), []byte(strconv.Quote(name))), 0o600)
	}
	return err
}

func atRest(path, data string, boards int) (rows []row, err error) {
	cmd := exec.Command(path, "serve", "--dev", "--data", data, "--listen", "127.0.0.1:0")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, cmd.Process.Signal(os.Interrupt), cmd.Wait()) }()
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return nil, err
	}
	base := strings.TrimSpace(strings.TrimPrefix(line, "serving on "))
	get := func(path string) error {
		resp, err := http.Get(base + path)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	if err := get("/healthz"); err != nil {
		return nil, err
	}
	time.Sleep(time.Second)
	mb := residentOf(cmd.Process.Pid)
	what := "memory of an idle server"
	if boards > 0 {
		what += fmt.Sprintf(" with %d boards on the disk", boards)
	}
	rows = append(rows, row{what: what, got: fmt.Sprintf("%.1f MB resident", mb), note: "under 24 MB", bad: mb > 24})
	if boards == 0 {
		return rows, nil
	}
	kib, err := streamsHeld(cmd.Process.Pid, strings.TrimPrefix(base, "http://"))
	if err != nil {
		return nil, err
	}
	rows = append(rows, row{what: "memory of a stream in the server, of 2,000", got: fmt.Sprintf("%.1f KiB", kib), note: "at most 36 KiB", bad: kib > 36})
	start := time.Now()
	if err := get("/v1/boards"); err != nil {
		return nil, err
	}
	took := time.Since(start)
	return append(rows, row{what: fmt.Sprintf("a list of the %d boards, of which none was asked for before", boards), got: fmt.Sprintf("%d ms", took.Milliseconds()), note: "at most 300 ms", bad: took > 300*time.Millisecond}), nil
}

// streamsHeld opens 2,000 streams, and gives what each holds in a server.
func streamsHeld(pid int, addr string) (kib float64, err error) {
	const many = 2000
	before := residentOf(pid)
	request := shot{method: "GET", path: "/v1/boards/board-0/events"}.bytes(addr, "")
	request = bytes.Replace(request, []byte("Authorization: Bearer \r\n"), nil, 1)
	var conns []net.Conn
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	for range many {
		conn, err := net.Dial("tcp", addr)
		if err != nil {
			return 0, err
		}
		conns = append(conns, conn)
		if _, err := conn.Write(request); err != nil {
			return 0, err
		}
		if err := conn.SetReadDeadline(time.Now().Add(10 * time.Second)); err != nil {
			return 0, err
		}
		in := bufio.NewReaderSize(conn, 512)
		for {
			line, err := in.ReadSlice('\n')
			if err != nil && err != bufio.ErrBufferFull {
				return 0, err
			}
			if bytes.HasPrefix(line, []byte("data:")) {
				break
			}
		}
	}
	time.Sleep(3 * time.Second)
	return (residentOf(pid) - before) * 1000 / 1.024 / many, nil
}

// residentOf gives the resident memory of a process in MB; 0 where the system doesn't say.
func residentOf(pid int) float64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(raw)) {
		if rest, is := strings.CutPrefix(line, "VmRSS:"); is {
			kb, _ := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(rest), " kB"), 64)
			return kb / 1000
		}
	}
	return 0
}
