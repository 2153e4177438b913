package server_test

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// storm makes 64 calls of an attack at once, each with a token on a board, and reads their answers. In make
// soak it lasts two seconds. It returns the answers that must not occur.
func storm(base string, n int, tokens, boards []string) (bad []string) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	a := attacks()[n]
	end := time.Now()
	if soak.On() {
		end = end.Add(2 * time.Second)
	}
	answers := make(chan string, crowd)
	var all sync.WaitGroup
	for i := range crowd {
		all.Go(func() {
			for {
				answer := a.once(ctx, base, tokens[i], boards[i], i)
				if !time.Now().Before(end) || answer != "" {
					answers <- answer
					return
				}
			}
		})
	}
	all.Wait()
	close(answers)
	for answer := range answers {
		if answer != "" {
			bad = append(bad, answer)
		}
	}
	return bad
}

// once makes one call, and returns its answer if that is an error of the server.
func (a attack) once(ctx context.Context, base, token, board string, i int) string {
	req, err := http.NewRequestWithContext(ctx, strings.Fields(a.call)[0], base+strings.ReplaceAll(a.path, "{board}", board), strings.NewReader(a.body))
	if err != nil {
		return err.Error()
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Client-Instance", fmt.Sprintf("attacker-%d", i))
	if a.body != "" {
		req.Header.Set("Content-Type", cmp.Or(a.kind, typeJSON))
	}
	resp, err := crowdClient.Do(req)
	if err != nil {
		return "" // refused while the body was sent
	}
	defer resp.Body.Close()
	if a.streams {
		time.AfterFunc(300*time.Millisecond, func() { resp.Body.Close() })
	}
	_, _ = io.Copy(io.Discard, resp.Body)
	if resp.StatusCode >= 500 && resp.StatusCode != http.StatusServiceUnavailable {
		return fmt.Sprintf("%s %s: %s", a.call, a.what, resp.Status)
	}
	return ""
}

// crowdHere makes the test's own program the crowd: it reads storms and writes what they return.
const crowdHere = "SMALL_PANTRY_TEST_CROWD"

type stormOrder struct {
	Base           string
	Attack         int
	Tokens, Boards []string
}

func crowdChild() {
	in, out := json.NewDecoder(os.Stdin), json.NewEncoder(os.Stdout)
	for {
		var o stormOrder
		if in.Decode(&o) != nil {
			return
		}
		if err := out.Encode(storm(o.Base, o.Attack, o.Tokens, o.Boards)); err != nil {
			panic(err)
		}
	}
}

// stormApart starts a process for the crowd.
func stormApart(t *testing.T) func(base string, n int, tokens, boards []string) []string {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), crowdHere+"=1")
	cmd.Stderr = os.Stderr
	stdin, err := cmd.StdinPipe()
	require.NoError(t, err)
	stdout, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		stdin.Close()
		assert.NoError(t, cmd.Wait())
	})
	in, out := json.NewEncoder(stdin), json.NewDecoder(stdout)
	return func(base string, n int, tokens, boards []string) (bad []string) {
		if err := in.Encode(stormOrder{base, n, tokens, boards}); err != nil {
			return []string{err.Error()}
		}
		if err := out.Decode(&bad); err != nil {
			return []string{err.Error()}
		}
		return bad
	}
}

// serveApart starts a server in a process of its own.
func serveApart(t *testing.T) (s *shared, pid int) {
	t.Helper()
	s = &shared{t: t, data: t.TempDir()}
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), serveHere+"="+s.data, serveShared+"=1")
	cmd.Stderr = os.Stderr
	stdout, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	line, err := bufio.NewReader(stdout).ReadString('\n')
	require.NoError(t, err)
	s.base = "http://" + strings.TrimSpace(line)
	raw, err := os.ReadFile(filepath.Join(s.data, "admin-token"))
	require.NoError(t, err)
	s.admin = strings.TrimSpace(string(raw))
	return s, cmd.Process.Pid
}

var crowdClient = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: crowd}}
