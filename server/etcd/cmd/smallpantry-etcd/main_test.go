package main

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/etcd/server/v3/etcdmain"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
)

// The test binary is also the command, and etcd, so that tests can start and kill processes of them.
func TestMain(m *testing.M) {
	switch os.Getenv("SMALLPANTRY_ETCD") {
	case "1":
		os.Exit(run(os.Args[1:], os.Stdout, os.Stderr))
	case "node":
		etcdmain.Main(os.Args)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func command(args ...string) *exec.Cmd {
	self, err := os.Executable()
	if err != nil {
		panic(err)
	}
	cmd := exec.Command(self, args...)
	cmd.Env = append(os.Environ(), "SMALLPANTRY_ETCD=1")
	return cmd
}

func start(t *testing.T, nodes, servers int, flags ...string) *cluster.Cluster {
	t.Helper()
	c, err := cluster.Start(t.Context(), cluster.Options{Dir: t.TempDir(), Command: command, Nodes: nodes, Servers: servers, Board: "rowan-street", Flags: flags, NoSync: true})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// call runs the command.
func call(args ...string) (code int, stdout, stderr string) {
	var out, errs bytes.Buffer
	code = run(args, &out, &errs)
	return code, out.String(), errs.String()
}

var tankLitres = pantry.Int("tank/litres", 0)

// join returns a phone's variable.
func join(t *testing.T, link, name string, opts ...board.Option) board.Var[int] {
	t.Helper()
	b, err := board.Join(link, append(opts, board.ClientName(name), board.OnProblem(func(pantry.Problem) {}))...)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	return board.On(b, tankLitres)
}

func TestUsage(t *testing.T) {
	t.Parallel()
	for args, want := range map[string]string{
		"none":                                   `there is no command "none"`,
		"backup":                                 "backup takes the file",
		"serve x":                                "serve takes no argument",
		"check --endpoints=":                     "--endpoints names no node",
		"check --etcd-cert a":                    "go together",
		"serve --peer x:1":                       "--peer is",
		"serve --limit x":                        "--limit",
		"serve --endpoints 127.0.0.1:1 --cert a": "--cert and --key must be used together",
		"check --etcd-ca main_test.go":           "there is no certificate in main_test.go",
		"serve --listen :0 --endpoints 127.0.0.1": "--peer must say",
	} {
		code, out, errs := call(strings.Fields(args)...)
		assert.Equal(t, exitUsage, code, args)
		assert.Contains(t, errs, want, args)
		assert.Empty(t, out, args)
	}
	code, out, _ := call()
	assert.Zero(t, code)
	for _, verb := range []string{"serve", "backup", "restore", "check", "move", "import", "export", "demo"} {
		assert.Contains(t, out, "\n  "+verb, verb)
	}
	assert.NotContains(t, out, "\n  node", "which is the demo's own")
	code, _, errs := call("check", "--endpoints", "127.0.0.1:1")
	assert.Equal(t, exitUnreachable, code)
	assert.Contains(t, errs, "none of the nodes that store the boards can be reached")
}

// fullWriter is a standard output on a full disk.
type fullWriter struct{}

func (fullWriter) Write([]byte) (int, error) { return 0, syscall.ENOSPC }

// Output that can't be written is a failure.
func TestFullOutput(t *testing.T) {
	t.Parallel()
	c := start(t, 1, 0)
	at := strings.Join(node.Endpoints(c.Members), ",")
	for _, args := range [][]string{{"--help"}, {"check", "--endpoints", at}, {"status", "--endpoints", at}, {"backup", filepath.Join(t.TempDir(), "boards"), "--endpoints", at}} {
		var errs strings.Builder
		assert.Equal(t, exitFailed, run(args, fullWriter{}, &errs), args)
		assert.Contains(t, errs.String(), "write the output", args)
	}
}

// An operator's day: servers, a backup, a restore, and the way back to files.
func TestOperate(t *testing.T) {
	t.Parallel()
	c := start(t, 1, 2)
	at := strings.Join(node.Endpoints(c.Members), ",")
	tank := join(t, c.Link, "gatehouse")
	require.NoError(t, tank.Set(t.Context(), 420))
	other := join(t, c.LinkAt(c.Addresses[1]), "tankwatch")
	litres, found, err := other.Lookup(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []any{420, true}, []any{litres, found})

	dir := t.TempDir()
	file := filepath.Join(dir, "backup.jsonl")
	code, out, errs := call("backup", file, "--endpoints", at)
	require.Zero(t, code, errs)
	assert.Regexp(t, `backup.jsonl has \d+ keys in .*, as of \d{4}-`, out)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	code, out, errs = call("check", "--endpoints", at)
	require.Zero(t, code, errs)
	assert.Regexp(t, `rowan-street +\d+ `, out)
	assert.Contains(t, out, "all of it can be read")
	code, out, errs = call("move", "rowan-street", "first", "--endpoints", at)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "rowan-street is in the group first: version ")
	code, _, errs = call("move", "rowan-street", "east", "--endpoints", at)
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errs, `there is no --group called "east"`)
	code, _, errs = call("move", "elm-street", "first", "--endpoints", at)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "move elm-street: the board does not exist")

	code, _, errs = call("restore", file, "--endpoints", at)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "stop them first")
	for i := range 2 {
		require.NoError(t, c.StopServer(i))
	}
	code, _, errs = call("restore", file, "--endpoints", at)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "there are boards already")
	code, out, errs = call("restore", file, "--endpoints", at, "--replace")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "start the servers now")

	files := filepath.Join(dir, "files")
	code, out, errs = call("export", files, "--endpoints", at)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "rowan-street: version ")
	code, out, errs = call("import", files, "--endpoints", at, "--prefix", "other/")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "moved 1 board, and the tokens")

	// A server with another admin token is not one of them.
	odd := filepath.Join(dir, "odd")
	code, _, errs = call("serve", "--endpoints", at, "--listen", "127.0.0.1:0", "--data", odd)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "copy admin-token from one of them to "+odd)
	assert.NoFileExists(t, filepath.Join(odd, "admin-token"))
	require.NoError(t, os.WriteFile(filepath.Join(odd, "admin-token"), []byte("admin.another-token-of-20-letters\n"), 0o600))
	code, _, errs = call("serve", "--endpoints", at, "--listen", "127.0.0.1:0", "--data", odd)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "--replace-admin")

	require.NoError(t, c.StartServer(t.Context(), 0))
	litres, _, err = tank.Lookup(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 420, litres, "the same link")
}

func TestDemo(t *testing.T) {
	t.Parallel()
	cmd := command("demo")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "no litre is lost, and none counted twice")
}

// without a majority no answer is given that a client would believe.
func TestNoMajority(t *testing.T) {
	t.Parallel()
	c := start(t, 3, 1)
	tank := join(t, c.Link, "gatehouse", board.Timeout(4*time.Second))
	require.NoError(t, tank.Set(t.Context(), 1))
	c.KillNode(0)
	c.KillNode(1)
	_, _, err := tank.Lookup(t.Context())
	require.ErrorIs(t, err, board.ErrUnreachable)
	err = tank.Set(t.Context(), 2)
	require.Error(t, err)
	admin, err := c.AdminToken()
	require.NoError(t, err)
	ready := fmt.Sprintf("http://%s/readyz", c.Addresses[0])
	says := func(sentence string) {
		t.Helper()
		require.Eventually(t, func() bool {
			resp, err := http.Get(ready)
			if err != nil {
				return false
			}
			defer resp.Body.Close()
			body, err := io.ReadAll(resp.Body)
			return err == nil && resp.StatusCode == 503 && strings.Contains(string(body), sentence)
		}, hang.Patience, 50*time.Millisecond, sentence)
	}
	says("most of the nodes that store the boards don't work together")
	require.Eventually(t, func() bool { // after a while the answer comes at once
		_, _, err = tank.Lookup(t.Context())
		return strings.Contains(err.Error(), "most of the nodes that store the boards don't work together")
	}, hang.Patience, 50*time.Millisecond, "people read the cause")
	require.NoError(t, c.StartNode(0))
	require.Eventually(t, func() bool { return status(t, ready, admin) == 200 }, hang.Patience, 50*time.Millisecond)
	require.NoError(t, tank.Set(t.Context(), 3))
	litres, _, err := tank.Lookup(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 3, litres)
	for i := range 3 {
		if i != 1 { // which is gone already
			c.KillNode(i)
		}
	}
	says("the server can't reach the nodes that store the boards")
	stopped := make(chan error, 1)
	go func() { stopped <- c.StopServer(0) }()
	select {
	case err := <-stopped:
		assert.NoError(t, err)
	case <-time.After(hang.Patience):
		t.Error("a server that reaches no node does not stop")
	}
}

// status shows nodes and servers, also when some of them are gone, and exits 1 when one needs attention.
func TestStatus(t *testing.T) {
	t.Parallel()
	c := start(t, 3, 2)
	endpoints := "--endpoints=" + strings.Join(node.Endpoints(c.Members), ",")
	var out, errs string
	require.Eventually(t, func() (ok bool) { // a new server registers first
		var code int
		code, out, errs = call("status", endpoints)
		return code == exitDone && strings.Count(out, "of 64 shards") == 2
	}, hang.Patience, 100*time.Millisecond, "%s%s", out, errs)
	assert.Equal(t, 1, strings.Count(out, "leader"), out)
	assert.Equal(t, 2, strings.Count(out, "follower"), out)
	assert.Equal(t, 2, strings.Count(out, " ready "), out)
	assert.Contains(t, out, "nothing needs attention")

	leader, err := c.Leader(t.Context())
	require.NoError(t, err)
	c.KillServer(0)
	c.KillNode(leader)
	code, out, errs := call("status", endpoints)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, out, "no answer")
	assert.Contains(t, out, "does not answer within 3s")
	assert.Contains(t, out, "can't be reached: ")
	assert.Regexp(t, `\d things need attention`, errs)

	c.KillNode((leader + 1) % 3) // no majority
	code, out, _ = call("status", endpoints)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, out, "of 64 shards", "the servers are known from any node")
}
