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
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// storm makes 64 calls of an attack at once, each with a token on a board, and reads their answers. In make
// soak it lasts two seconds. It returns the answers that must not occur.
func storm(base string, n int, tokens, boards []string) (bad []string) {
	ctx, cancel := context.WithTimeout(context.Background(), hang.Patience)
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

// An apart is a server in a process of its own.
type apart struct {
	*shared
	cmd *exec.Cmd
}

func serveApart(t *testing.T) *apart {
	t.Helper()
	a := &apart{shared: &shared{t: t, data: t.TempDir()}}
	a.start()
	t.Cleanup(a.stop)
	raw, err := os.ReadFile(filepath.Join(a.data, "admin-token"))
	require.NoError(t, err)
	a.admin = strings.TrimSpace(string(raw))
	return a
}

func (a *apart) start() {
	a.cmd = exec.Command(os.Args[0])
	a.cmd.Env = append(os.Environ(), serveHere+"="+a.data, serveShared+"=1")
	a.cmd.Stderr = os.Stderr
	stdout, err := a.cmd.StdoutPipe()
	require.NoError(a.t, err)
	require.NoError(a.t, a.cmd.Start())
	if group := os.Getenv("SERVER_CGROUP"); group != "" { // a directory: the group has the limits of the unit in docs/internet.md
		require.NoError(a.t, os.WriteFile(filepath.Join(group, "cgroup.procs"), []byte(strconv.Itoa(a.cmd.Process.Pid)), 0))
	}
	line, err := bufio.NewReader(stdout).ReadString('\n')
	require.NoError(a.t, err)
	a.base = "http://" + strings.TrimSpace(line)
}

func (a *apart) stop() {
	_ = a.cmd.Process.Kill()
	_ = a.cmd.Wait()
}

// restart starts the server again, and has it load the boards.
func (a *apart) restart(links, boards []string) {
	a.stop()
	a.start()
	for i, board := range boards {
		a.as(links[i], "GET", "/v1/boards/"+board+"/entries?limit=1", "")
	}
}

// memory returns a number of bytes from the status of the process: VmRSS is what is resident, VmHWM the most that was.
func (a *apart) memory(field string) int64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", a.cmd.Process.Pid))
	require.NoError(a.t, err)
	_, rest, _ := strings.Cut(string(raw), field+":")
	var n int64
	_, err = fmt.Sscanf(rest, "%d kB", &n)
	require.NoError(a.t, err)
	return n << 10
}

var crowdClient = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: crowd}}
