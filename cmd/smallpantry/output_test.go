package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"github.com/charmbracelet/lipgloss"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fullWriter is a standard output on a full disk.
type fullWriter struct{}

func (fullWriter) Write([]byte) (int, error) { return 0, syscall.ENOSPC }

// Output that can't be written is a failure.
func TestFullOutput(t *testing.T) {
	t.Parallel()
	at := filepath.Join(t.TempDir(), "plotbook")
	for _, args := range [][]string{{"put", at, "plot", "C4"}, {"get", at, "plot"}, {"history", at}, {"list", at}, {"check", at}, {"list", at, "--json"}, {"--help"}} {
		var errs strings.Builder
		assert.Equal(t, exitFailed, run(args, nil, fullWriter{}, &errs), args)
		assert.Contains(t, errs.String(), "write the output", args)
	}
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
	for _, command := range []string{"list plotbook", "history plotbook"} {
		narrow, wide := onTerminal(80, command), onTerminal(120, command)
		assert.Equal(t, 80, widest(narrow), "%s: %q", command, narrow)
		assert.Equal(t, 120, widest(wide), "%s: %q", command, wide)
	}
	var whole strings.Builder
	require.Zero(t, run([]string{"list", filepath.Join(dir, "plotbook")}, nil, &whole, os.Stderr))
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
	assert.NotContains(t, whole.String(), "reading", "only people see it")
}

// Every command that prints data prints a JSON object with --json (history prints one for each commit), also
// if there is no data.
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
	for _, place := range []string{filepath.Join(garden, "plotbook"), address + "/boards/rowan-street"} {
		spoken := map[string]bool{}
		for _, words := range []string{
			"put P plot C4", "put P n 5 --if-absent", "get P plot", "get P nothing --or 7", "add P n -2", "raise P n 9", "lower P n 1",
			"append P hose/queue C4", "append P hose/queue B2", "append P hose/queue A1", "take P hose/queue", "remove P hose/queue B2", "rename P n tank/litres", "list P", "list P --prefix none/", "keys P",
			"history P", "history P nothing", "list P@1", "compare P@1 P", "compare P P", "restore P@1 plot", "restore P@1 plot n", "export P", "export P F",
			"import P F --dry-run", "import P F", "copy P Q plot", "copy P Q plot", "check P", "drop P plot", "reset P --yes", "reset P --yes", "list P", "list S",
			"places keep home P", "places", "places forget home", "places", "repair Q",
		} {
			above := strings.TrimSuffix(strings.TrimSuffix(place, "/plotbook"), "/boards/rowan-street")
			words = strings.NewReplacer("P", place, "Q", filepath.Join(garden, "other"), "F", file, "S", above).Replace(words)
			args := strings.Fields(words)
			if args[0] == "places" && len(args) > 1 {
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
						assert.NotContains(t, []string{"entries", "keys", "boards", "places", "changed", "changes", "findings", "namespaces"}, name, "%s: an empty list is [], not null", words)
					}
				}
			}
			if args[0] != "history" {
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
