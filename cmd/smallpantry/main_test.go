package main

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){"smallpantry": main})
}

// The scripts in testdata/script, one a command. Besides the standard ones
// they have: smallpantry, which is the command in this process (exec
// smallpantry is a process of its own); exits CODE COMMAND..., whose exit code
// must be CODE; and serving, which starts a server and sets $SERVER to its address.
func TestCommands(t *testing.T) {
	t.Parallel()
	scripts, err := filepath.Abs("testdata/script") // the process moves about
	require.NoError(t, err)
	testscript.Run(t, testscript.Params{
		Dir: scripts,
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"smallpantry": inProcess,
			"exits":       exits,
			"serving":     startsServer,
			"sharing":     startsShared,
			"keeps":       keeps,
			"loop":        loop,
		},
		Setup: func(e *testscript.Env) error {
			e.Setenv("NO_COLOR", "1")
			return nil
		},
	})
}

// environ is the environment of the tests. A script changes that of the process for a while.
var environ = os.Environ()

// clone is the root of the repository. A script changes the directory of the process for a while.
var clone, _ = filepath.Abs("../..")

// processMu is held while a script has this process: its directory and
// environment are those of the script then.
var processMu sync.Mutex

func inProcess(ts *testscript.TestScript, neg bool, args []string) {
	if code := runInProcess(ts, args); (code == exitDone) == neg {
		ts.Fatalf("exit code %d", code)
	}
}

func exits(ts *testscript.TestScript, _ bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	if args[1] != "smallpantry" {
		ts.Fatalf("usage: exits CODE smallpantry ARG...")
	}
	if code := runInProcess(ts, args[2:]); code != want {
		ts.Fatalf("exit code %d, want %d", code, want)
	}
}

// keeps NAME keeps the link that was printed last, which the command reads from standard
// input.
func keeps(ts *testscript.TestScript, _ bool, args []string) {
	if code := runWith(ts, strings.NewReader(ts.ReadFile("stdout")), []string{"places", "keep", args[0], "-"}); code != exitDone {
		ts.Fatalf("exit code %d", code)
	}
}

func runInProcess(ts *testscript.TestScript, args []string) int {
	return runWith(ts, strings.NewReader(""), args)
}

func runWith(ts *testscript.TestScript, stdin io.Reader, args []string) int {
	processMu.Lock()
	defer processMu.Unlock()
	was, err := os.Getwd()
	ts.Check(err)
	ts.Check(os.Chdir(ts.MkAbs(".")))
	defer func() { ts.Check(os.Chdir(was)) }()
	for _, name := range []string{"HOME", "XDG_CONFIG_HOME", "NO_COLOR", "COLUMNS", "SMALLPANTRY_TOKEN"} {
		before, had := os.LookupEnv(name)
		ts.Check(os.Setenv(name, ts.Getenv(name)))
		defer func() {
			if ts.Check(os.Setenv(name, before)); !had {
				ts.Check(os.Unsetenv(name))
			}
		}()
	}
	return run(args, stdin, ts.Stdout(), ts.Stderr())
}

// startsShared starts a server with tokens, and sets $SERVER, $LINK, which is the owner's of
// its board rowan-street, and $ADMIN.
func startsShared(ts *testscript.TestScript, _ bool, args []string) {
	data := ts.MkAbs("data")
	cmd := exec.Command("smallpantry", append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0", "--board", "rowan-street"}, args...)...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	ts.Check(err)
	ts.Check(cmd.Start())
	ts.Defer(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		ts.Check(cmd.Wait())
	})
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		line := lines.Text()
		if address, ok := strings.CutPrefix(line, "serving on "); ok {
			ts.Setenv("SERVER", address)
		}
		if strings.Contains(line, "/boards/rowan-street#") {
			ts.Setenv("LINK", line)
			break
		}
	}
	go func() { // it must not wait for its reader
		for lines.Scan() {
		}
	}()
	admin, err := os.ReadFile(filepath.Join(data, "admin-token"))
	ts.Check(err)
	ts.Setenv("ADMIN", strings.TrimSpace(string(admin)))
}

func startsServer(ts *testscript.TestScript, _ bool, args []string) {
	cmd, address, err := startServer(ts.MkAbs("data"), args...)
	ts.Check(err)
	ts.Setenv("SERVER", address)
	ts.Defer(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		ts.Check(cmd.Wait())
	})
}

// startServer runs the command as a process of its own and waits for its
// first line.
func startServer(data string, args ...string) (*exec.Cmd, string, error) {
	cmd := exec.Command("smallpantry", append([]string{"serve", "--dev", "--data", data, "--listen", "127.0.0.1:0"}, args...)...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, "", err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	address, ok := strings.CutPrefix(strings.TrimSpace(line), "serving on ")
	if err == nil && !ok {
		err = fmt.Errorf("the server's first line is %q", line)
	}
	return cmd, address, err
}

// loop N COMMAND... runs the command N times, in two processes at once each time.
func loop(ts *testscript.TestScript, _ bool, args []string) {
	n, err := strconv.Atoi(args[0])
	ts.Check(err)
	failed := make(chan error, 2)
	for range 2 {
		go func() {
			for range n {
				cmd := exec.Command(args[1], args[2:]...)
				cmd.Dir = ts.Getenv("WORK")
				if out, err := cmd.CombinedOutput(); err != nil {
					failed <- fmt.Errorf("%w: %s", err, out)
					return
				}
			}
			failed <- nil
		}()
	}
	ts.Check(<-failed)
	ts.Check(<-failed)
}

// A server that is killed in the middle of writing loses nothing that it acknowledged, and no addition is
// counted twice.
func TestKilledServerKeepsWhatItAnswered(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	const adders = 4
	answered := make(chan int, adders)
	answer := 0
	for round := range 3 {
		cmd, address, err := startServer(data)
		require.NoError(t, err)
		adding := make(chan struct{}, 1)
		for range adders {
			go func() {
				n := 0
				for run([]string{"add", address + "/boards/rowan-street", "tank/litres", "1"}, nil, &strings.Builder{}, &strings.Builder{}) == 0 {
					n++
					select {
					case adding <- struct{}{}:
					default:
					}
				}
				answered <- n
			}()
		}
		<-adding
		time.Sleep(time.Duration(20+50*round) * time.Millisecond) // the kill is to come at any moment of a write
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it says that it was killed
		for range adders {
			answer += <-answered
		}
		cmd, address, err = startServer(data)
		require.NoError(t, err)
		var out strings.Builder
		require.Zero(t, run([]string{"get", address + "/boards/rowan-street", "tank/litres", "--or", "0"}, nil, &out, os.Stderr))
		stored, err := strconv.Atoi(strings.TrimSpace(out.String()))
		require.NoError(t, err)
		assert.GreaterOrEqual(t, stored, answer)
		assert.LessOrEqual(t, stored, answer+adders, "at most one that was not answered for each who asked")
		answer = stored
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		require.NoError(t, cmd.Wait())
	}
	assert.Positive(t, answer)
}

func TestDemoThatStays(t *testing.T) {
	t.Parallel()
	lines := make(awaited, 1000)
	demo := exec.Command("smallpantry", "demo", "--stay")
	demo.Stdout, demo.Stderr = lines, os.Stderr
	require.NoError(t, demo.Start())
	defer demo.Process.Kill() // where the test ends early
	var commands []string
	for len(commands) < 4 {
		line := lines.next(t)
		if words := strings.Fields(line); len(words) > 1 && words[0] == "smallpantry" {
			commands = append(commands, strings.Join(words[1:], " "))
		}
	}
	call := func(command string) (string, int) {
		var out strings.Builder
		code := run(strings.Fields(command), nil, &out, &out)
		return out.String(), code
	}
	board, phone := commands[0], commands[3]
	out, code := call(board)
	require.Zero(t, code)
	assert.Regexp(t, `(?m)^tank/litres +int +320 `, out)
	out, code = call(commands[1])
	require.Zero(t, code)
	assert.Equal(t, "310\n", out)
	out, code = call(phone)
	require.Zero(t, code)
	assert.Contains(t, out, "plotbook-")

	require.NoError(t, demo.Process.Signal(os.Interrupt))
	require.NoError(t, demo.Wait())
	assert.NoDirExists(t, strings.Fields(phone)[1])
	_, code = call(board)
	assert.Equal(t, exitUnreachable, code)
}

func TestPortInUse(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	var out, errs strings.Builder
	assert.Equal(t, exitFailed, run([]string{"serve", "--dev", "--data", filepath.Join(t.TempDir(), "d"), "--listen", l.Addr().String()}, nil, &out, &errs))
	assert.Contains(t, errs.String(), "--listen")
	assert.Empty(t, out.String())
}

// awaited is an output that a test can wait on.
type awaited chan string

func (a awaited) Write(b []byte) (int, error) {
	for line := range strings.Lines(string(b)) {
		a <- strings.TrimSpace(line)
	}
	return len(b), nil
}

func (a awaited) next(t *testing.T) string {
	t.Helper()
	select {
	case line := <-a:
		return line
	case <-time.After(hang.Patience):
		require.FailNow(t, "nothing was printed")
		return ""
	}
}

func TestWatch(t *testing.T) {
	t.Parallel()
	cmd, address, err := startServer(t.TempDir())
	require.NoError(t, err)
	for _, place := range []string{filepath.Join(t.TempDir(), "plotbook"), address + "/boards/rowan-street"} {
		call := func(args ...string) {
			require.Zero(t, run(args, nil, &strings.Builder{}, os.Stderr))
		}
		call("put", place, "plot", "C4")
		lines := make(awaited, 100)
		watch := exec.Command("smallpantry", "watch", place, "--poll", "10ms")
		watch.Stdout, watch.Stderr = lines, os.Stderr
		require.NoError(t, watch.Start())
		assert.Regexp(t, `^plot  C4  version 1`, lines.next(t))
		call("put", place, "plot", "B2")
		assert.Regexp(t, `^plot  B2  version 2`, lines.next(t))
		call("drop", place, "plot")
		assert.Equal(t, `plot  absent`, lines.next(t))
		require.NoError(t, watch.Process.Signal(os.Interrupt))
		require.NoError(t, watch.Wait(), "an interrupted watch is done, not failed")

		watch = exec.Command("smallpantry", "watch", place, "plot", "--poll", "10ms", "--json")
		watch.Stdout, watch.Stderr = lines, os.Stderr
		require.NoError(t, watch.Start())
		assert.Regexp(t, `^{"gone":true,"name":"plot","version":\d}$`, lines.next(t))
		call("put", place, "plot", "C4")
		assert.Regexp(t, `^{"name":"plot","kind":"text","value":"C4","version":4,`, lines.next(t))
		require.NoError(t, watch.Process.Signal(os.Interrupt))
		require.NoError(t, watch.Wait())
	}
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait())
}
