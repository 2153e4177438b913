package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){"smallpantry": main})
}

// The scripts in testdata/script, one a command. Besides the standard ones
// they have: exits CODE COMMAND..., whose exit code must be CODE; and serving,
// which starts a server and sets $SERVER to its address.
func TestCommands(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits":   exits,
			"serving": serving,
			"loop":    loop,
		},
		Setup: func(e *testscript.Env) error {
			e.Setenv("NO_COLOR", "1")
			return nil
		},
	})
}

func exits(ts *testscript.TestScript, _ bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	err = ts.Exec(args[1], args[2:]...)
	got := 0
	if exit := (*exec.ExitError)(nil); err != nil && !asExit(err, &exit) {
		ts.Check(err)
	} else if exit != nil {
		got = exit.ExitCode()
	}
	if got != want {
		ts.Fatalf("exit code %d, want %d", got, want)
	}
}

func asExit(err error, to **exec.ExitError) bool {
	e, ok := err.(*exec.ExitError)
	*to = e
	return ok
}

func serving(ts *testscript.TestScript, _ bool, args []string) {
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

// A server that is killed in the middle of writing loses nothing that it
// answered, and nobody's addition is counted twice.
func TestKilledServerKeepsWhatItAnswered(t *testing.T) {
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
				for run([]string{"add", address + "/b/rowan-street", "tank/litres", "1"}, nil, &strings.Builder{}, &strings.Builder{}) == 0 {
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
		time.Sleep(time.Duration(20+50*round) * time.Millisecond) // any moment will do
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it says that it was killed
		for range adders {
			answer += <-answered
		}
		cmd, address, err = startServer(data)
		require.NoError(t, err)
		var out strings.Builder
		require.Zero(t, run([]string{"get", address + "/b/rowan-street", "tank/litres", "--or", "0"}, nil, &out, os.Stderr))
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

// On a terminal, tables are as wide as it is, and what takes long shows how far it is.
func TestOnATerminal(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("script takes other flags here")
	}
	if _, err := exec.LookPath("script"); err != nil {
		require.NotEqual(t, "true", os.Getenv("CI"), "script is missing: %v", err)
		t.Skip("script, which makes a terminal, is not on this machine")
	}
	t.Setenv("NO_COLOR", "")
	dir := t.TempDir()
	onTerminal := func(columns int, command string) []string {
		out, err := exec.Command("script", "-qec", fmt.Sprintf("stty cols %d; cd %s; smallpantry %s", columns, dir, command), "/dev/null").CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.FieldsFunc(string(out), func(r rune) bool { return r == '\r' || r == '\n' })
	}
	long := strings.Repeat("water the beans. ", 8)
	require.Zero(t, run([]string{"put", filepath.Join(dir, "plotbook"), "plantings/1/note", long}, nil, &strings.Builder{}, os.Stderr))
	widest := func(lines []string) (most int) {
		for _, line := range lines {
			most = max(most, lipgloss.Width(line))
		}
		return most
	}
	for _, command := range []string{"ls plotbook", "log plotbook"} {
		narrow, wide := onTerminal(80, command), onTerminal(120, command)
		assert.Equal(t, 80, widest(narrow), "%s: %q", command, narrow)
		assert.Equal(t, 120, widest(wide), "%s: %q", command, wide)
	}
	var whole strings.Builder
	require.Zero(t, run([]string{"ls", filepath.Join(dir, "plotbook")}, nil, &whole, os.Stderr))
	assert.Contains(t, whole.String(), strings.TrimSpace(long), "a script reads all of it")

	var b strings.Builder
	for i := range manyStored {
		fmt.Fprintf(&b, `{"name":"beds/%05d/note","kind":"text","value":%q}`+"\n", i, long+long)
	}
	require.Greater(t, b.Len(), longFile)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.jsonl"), []byte(b.String()), 0o600))
	out := strings.Join(onTerminal(80, "import shed in.jsonl"), "\n")
	assert.Contains(t, out, "reading in.jsonl")
	assert.Contains(t, out, "storing 20000 entries")
	assert.Contains(t, out, "beds/00000/note")
	assert.Contains(t, out, "19980 more")
	t.Setenv("NO_COLOR", "1")
	out = strings.Join(onTerminal(80, "import greenhouse in.jsonl"), "\n")
	assert.NotContains(t, out, "reading")
	assert.NotContains(t, out, "\x1b")
	whole.Reset()
	require.Zero(t, run([]string{"import", filepath.Join(dir, "barn"), filepath.Join(dir, "in.jsonl")}, nil, &whole, &whole))
	assert.NotContains(t, whole.String(), "reading", "it is for people only")
}

// Whatever prints data prints JSON with --json, an object a line, also where
// there is nothing to tell.
func TestEveryCommandSpeaksJSON(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	cmd, address, err := startServer(t.TempDir())
	require.NoError(t, err)
	defer func() {
		assert.NoError(t, cmd.Process.Signal(os.Interrupt))
		assert.NoError(t, cmd.Wait())
	}()
	garden := t.TempDir()
	file := filepath.Join(garden, "out.json")
	for _, place := range []string{filepath.Join(garden, "plotbook"), address + "/b/rowan-street"} {
		spoken := map[string]bool{}
		for _, words := range []string{
			"put P plot C4", "put P n 5 --if-absent", "get P plot", "get P nothing --or 7", "add P n -2", "raise P n 9", "lower P n 1",
			"append P hose/queue C4", "append P hose/queue B2", "remove P hose/queue C4", "rename P n tank/litres", "ls P", "ls P --prefix none/", "keys P",
			"log P", "log P nothing", "ls P@1", "diff P@1 P", "diff P P", "restore P@1 plot", "restore P@1 plot n", "export P", "export P F",
			"import P F --dry-run", "import P F", "copy P Q plot", "copy P Q plot", "check P", "rm P plot", "reset P --yes", "reset P --yes", "ls P", "ls S",
			"alias set home P", "alias list", "alias rm home", "alias list", "repair Q",
		} {
			above := strings.TrimSuffix(strings.TrimSuffix(place, "/plotbook"), "/b/rowan-street")
			words = strings.NewReplacer("P", place, "Q", filepath.Join(garden, "other"), "F", file, "S", above).Replace(words)
			args := strings.Fields(words)
			if args[0] == "alias" && args[1] != "list" {
				require.Zero(t, run(args, nil, &strings.Builder{}, os.Stderr))
				continue
			}
			spoken[args[0]] = true
			var out, errs strings.Builder
			code := run(append(args, "--json"), nil, &out, &errs)
			assert.Contains(t, []int{exitDone, exitFailed}, code, "%s: %s", words, errs.String())
			assert.Empty(t, errs.String(), words)
			dec, n := json.NewDecoder(strings.NewReader(out.String())), 0
			for ; dec.More(); n++ {
				var object map[string]any
				require.NoError(t, dec.Decode(&object), "%s: %s", words, out.String())
				for name, x := range object {
					if x == nil {
						assert.NotContains(t, []string{"entries", "keys", "boards", "aliases", "changed", "changes", "findings", "namespaces"}, name, "%s: an empty list is [], not null", words)
					}
				}
			}
			if args[0] != "log" {
				assert.Equal(t, 1, n, "%s: %q", words, out.String())
			}
		}
		for _, c := range (&app{}).root().Commands() {
			if c.Flags().Lookup("json") != nil && c.Name() != "watch" {
				assert.True(t, spoken[c.Name()], "%s was not asked", c.Name())
			}
		}
	}
}

// What keys --go prints compiles, for keys of every kind.
func TestKeysAsGo(t *testing.T) {
	dir := t.TempDir()
	type planting struct{ Crop string }
	ns, err := pantry.Open(dir, "plotbook", pantry.Declare(
		pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind"), pantry.Float("tank/ratio", 0.5).Between(0, 1),
		pantry.Bool("gate/open", true), pantry.Text("plot", `"C4"`), pantry.Bytes("icon", []byte("\x89\x00")), pantry.Time("sown", time.Date(2026, 5, 3, 9, 12, 44, 0, time.UTC)), pantry.Time("moved", time.Time{}),
		pantry.List("hose/queue", "C4").Keep(20), pantry.List("depths", 1, 2), pantry.List[float64]("heights"),
		pantry.Map("notes", map[string]string{"a": "b"}), pantry.RecordsOf[planting]("plantings"),
		pantry.Map("layout", map[string]any{"beds": []any{"C4", 2}, "deep": map[string]any{"cm": 30.5, "none": nil}}), pantry.Text("gate/code", "").Sealed(),
	))
	require.NoError(t, err)
	require.NoError(t, ns.Close())
	var out strings.Builder
	require.Zero(t, run([]string{"keys", filepath.Join(dir, "plotbook"), "--go"}, nil, &out, os.Stderr))
	for _, line := range []string{
		`ReminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind")`, `TankRatio = pantry.Float("tank/ratio", 0.5).Between(0.0, 1.0)`,
		`Plot = pantry.Text("plot", "\"C4\"")`, `HoseQueue = pantry.List[string]("hose/queue", "C4").Keep(20)`, `Plantings = pantry.RecordsOf[Planting]("plantings")`,
		`Depths = pantry.List[int]("depths", 1, 2)`, `Heights = pantry.List[any]("heights")`, `Icon = pantry.Bytes("icon", []byte("\x89\x00"))`,
		`Sown = pantry.Time("sown", time.Date(2026, 5, 3, 9, 12, 44, 0, time.UTC))`, `Notes = pantry.Map("notes", map[string]string{"a": "b"})`,
		`Layout = pantry.Map("layout", map[string]any{"beds": []any{"C4", 2}, "deep": map[string]any{"cm": 30.5, "none": nil}})`,
		`GateCode = pantry.Text("gate/code", "").Sealed()`,
	} {
		name, rest, _ := strings.Cut(line, " = ")
		assert.Regexp(t, regexp.QuoteMeta(name)+` += `+regexp.QuoteMeta(rest), out.String())
	}
	file := filepath.Join(dir, "keys.go")
	code := "package main\nimport (\"time\"; \"github.com/small-pantry/pantry\")\ntype Planting struct{}\nvar _ time.Time\n" + out.String() + "func main() {}\n"
	require.NoError(t, os.WriteFile(file, []byte(code), 0o600))
	said, err := exec.Command("go", "vet", file).CombinedOutput()
	require.NoError(t, err, "%s\n%s", said, code)
}

// What an app has declared holds for a change from outside too: kind, range,
// default and length.
func TestChangesAsDeclared(t *testing.T) {
	dir := t.TempDir()
	place := filepath.Join(dir, "plotbook")
	type planting struct{ Crop string }
	ns, err := pantry.Open(dir, "plotbook", pantry.Declare(
		pantry.Int("reminder-hour", 18).Between(0, 23), pantry.Float("tank/ratio", 0.5).Between(0, 1), pantry.Int("watered", 3).Between(0, 9),
		pantry.List("hose/queue", "A1").Keep(3), pantry.RecordsOf[planting]("plantings"),
	))
	require.NoError(t, err)
	require.NoError(t, ns.Close())
	for _, step := range []struct {
		words, want string
		code        int
	}{
		{"put P reminder-hour 99", "reminder-hour: out of range: 99 is over 23; it is declared from 0 to 23", exitRefused},
		{"put P reminder-hour 7", "7", exitDone},
		{"add P reminder-hour 17", "24 is over 23", exitRefused},
		{"add P reminder-hour -8", "-1 is under 0", exitRefused},
		{"raise P reminder-hour 30", "30 is over 23", exitRefused},
		{"get P reminder-hour", "7", exitDone},
		{"put P reminder-hour soon --kind text", "soon", exitDone}, // whoever names a kind means it
		{"put P tank/ratio 1", "1.0", exitDone},
		{"put P tank/ratio 1.5", "1.5 is over 1.0", exitRefused},
		{"add P watered/C4 2", "5", exitDone}, // its family's default is 3
		{"add P watered/C4 5", "10 is over 9", exitRefused},
		{"add P watered/B2 2 --start 0", "2", exitDone},
		{"put P watered/A1 plenty", "plenty", exitRefused},
		{"raise P watered/A1 1", "3", exitDone},
		{"append P hose/queue B2", `["A1","B2"]`, exitDone},
		{"append P hose/queue C4", `["A1","B2","C4"]`, exitDone},
		{"append P hose/queue D5", `["B2","C4","D5"]`, exitDone},
		{"append P hose/queue E6 --keep 1", `["E6"]`, exitDone},
		{"put P plantings 4", "4", exitDone},
		{"put P plantings/4 beans", "map", exitRefused},
	} {
		var out, errs strings.Builder
		code := run(strings.Fields(strings.ReplaceAll(step.words, "P ", place+" ")), nil, &out, &errs)
		assert.Equal(t, step.code, code, "%s: %s", step.words, errs.String())
		if code == exitDone {
			assert.Equal(t, step.want+"\n", out.String(), step.words)
		} else {
			assert.Contains(t, errs.String(), step.want, step.words)
		}
	}
	var out strings.Builder
	require.Equal(t, exitFailed, run([]string{"check", place}, nil, &out, os.Stderr))
	assert.Regexp(t, "(?m)^wrong-kind +reminder-hour: it is text, and was declared as int", out.String())
}

func TestDemoThatStays(t *testing.T) {
	lines := make(awaited, 1000)
	demo := exec.Command("smallpantry", "demo", "--stay")
	demo.Stdout, demo.Stderr = lines, os.Stderr
	require.NoError(t, demo.Start())
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
	assert.Regexp(t, `(?m)^tank/litres +int +350 `, out)
	out, code = call(commands[1])
	require.Zero(t, code)
	assert.Equal(t, "340\n", out)
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
	case <-time.After(10 * time.Second):
		require.FailNow(t, "nothing was printed")
		return ""
	}
}

func TestWatch(t *testing.T) {
	cmd, address, err := startServer(t.TempDir())
	require.NoError(t, err)
	for _, place := range []string{filepath.Join(t.TempDir(), "plotbook"), address + "/b/rowan-street"} {
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
		call("rm", place, "plot")
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
