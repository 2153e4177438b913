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
	"time"

	"github.com/small-pantry/pantry/server"
)

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
