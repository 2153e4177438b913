package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/small-pantry/pantry/server"
)

const (
	manyBoards  = 3000
	manyStreams = 1000
)

// resident compares the memory of the command that serves with that of a server of net/http alone, at
// rest and with streams, and a list of many boards with a look at their files.
func resident(s *suite) error {
	dir, remove, err := temporary()
	if err != nil {
		return err
	}
	defer remove()
	command, err1 := built(dir, "command", "./cmd/smallpantry")
	floor, err2 := builtFrom(dir, "idle", idleSource)
	data := filepath.Join(dir, "data")
	if err := errors.Join(err1, err2, fillBoards(data, manyBoards)); err != nil {
		return err
	}
	rounds := s.rounds
	s.rounds = min(rounds, 5)
	defer func() { s.rounds = rounds }()
	ours := func(events string) func() (float64, error) {
		return residentOf(events, command, "serve", "--dev", "--data", data, "--listen", "127.0.0.1:0")
	}
	const events = "/v1/boards/board-0/events"
	return errors.Join(
		s.compare(row{what: fmt.Sprintf("memory of an idle server with %d boards on the disk", manyBoards), floor: "of a net/http server", limit: 2.5, unit: megabytes}, ours(""), residentOf("", floor)),
		s.compare(row{what: fmt.Sprintf("memory of %d streams", manyStreams), floor: "of as many of a net/http server", limit: 1.4, unit: megabytes}, ours(events), residentOf("/events", floor)),
		listing(s, data, command),
	)
}

// fillBoards makes boards of one entry each.
func fillBoards(data string, n int) error {
	s, err := server.New(server.Options{Data: data, Dev: true, Public: "http://localhost", Limits: server.Limits{Boards: n + 1}, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	_, _, err = s.OwnerLink(context.Background(), "board-0")
	if err = errors.Join(err, s.Close()); err != nil {
		return err
	}
	// Copies of one file, each under its own name, are boards of their own.
	boards := filepath.Join(data, "boards")
	first, err := os.ReadFile(filepath.Join(boards, "board-0.jsonl"))
	for i := 1; i < n && err == nil; i++ {
		name := fmt.Sprint("board-", i)
		err = os.WriteFile(filepath.Join(boards, name+".jsonl"), bytes.ReplaceAll(first, []byte(`"board-0"`), []byte(strconv.Quote(name))), 0o600)
	}
	return err
}

// started starts a program that prints "serving on URL" first.
func started(program string, args ...string) (cmd *exec.Cmd, url string, err error) {
	cmd = exec.Command(program, args...)
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return nil, "", err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	return cmd, strings.TrimSpace(strings.TrimPrefix(line, "serving on ")), err
}

func get(url string) error {
	resp, err := http.Get(url)
	if err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, resp.Body)
	return errors.Join(err, resp.Body.Close())
}

// residentOf returns a function that starts a server and returns its resident memory in bytes at
// rest; with a path of events, by how much it grows with streams.
func residentOf(events, program string, args ...string) func() (float64, error) {
	return func() (bytes float64, err error) {
		cmd, url, err := started(program, args...)
		if err != nil {
			return 0, err
		}
		defer func() {
			_ = cmd.Process.Kill()
			_ = cmd.Wait() // it was killed
		}()
		if err := get(url + "/healthz"); err != nil {
			return 0, err
		}
		time.Sleep(time.Second) // what the start took is given back
		rest, err := rss(cmd.Process.Pid)
		if err != nil || events == "" {
			return rest, err
		}
		stop, err := streams(strings.TrimPrefix(url, "http://"), "", events, manyStreams)
		defer stop()
		if err != nil {
			return 0, err
		}
		time.Sleep(time.Second)
		all, err := rss(cmd.Process.Pid)
		return max(all-rest, 1), err
	}
}

// rss returns the resident memory of a process. It knows Linux only.
func rss(pid int) (float64, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(raw)) {
		if rest, is := strings.CutPrefix(line, "VmRSS:"); is {
			kb, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(rest), " kB"), 64)
			return kb * 1024, err
		}
	}
	return 0, errors.Join(err, errors.New("the resident memory is not known here"))
}

// listing compares a list of many boards, none loaded, with opening each file and reading
// its first and last bytes.
func listing(s *suite, data, command string) error {
	cmd, url, err := started(command, "serve", "--dev", "--data", data, "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}()
	boards := filepath.Join(data, "boards")
	return s.time(row{what: fmt.Sprintf("a list of %d boards, none loaded", manyBoards), floor: "the first and the last 4 KB of their files", limit: 3}, func(b *testing.B) {
		for range b.N {
			if err := get(url + "/v1/boards"); err != nil {
				b.Fatal(err)
			}
		}
	}, func(b *testing.B) {
		buf := make([]byte, 4<<10)
		for range b.N {
			files, err := os.ReadDir(boards)
			if err != nil {
				b.Fatal(err)
			}
			for _, f := range files {
				file, err := os.Open(filepath.Join(boards, f.Name()))
				if err != nil {
					b.Fatal(err)
				}
				info, err := file.Stat()
				if err != nil {
					b.Fatal(err)
				}
				_, _ = file.ReadAt(buf, 0)
				_, _ = file.ReadAt(buf, max(0, info.Size()-int64(len(buf))))
				file.Close()
			}
		}
	})
}
