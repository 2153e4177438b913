package keycode_test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/keycode"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
)

// What is printed for a board reads, writes and watches it: in Go, in JavaScript and by shell lines.
func TestUsesABoard(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	link := s.Link("rowan-street")
	b, err := board.Join(link)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	place := keycode.EveryPlace(t, true)
	place.Link, _, _ = strings.Cut(link, "#")
	frost := board.On(b, pantry.Bool("frost/warning", false))

	// watches runs a program until it prints the value that is stored once it has begun.
	watches := func(t *testing.T, name string, args ...string) {
		t.Helper()
		require.NoError(t, frost.Set(t.Context(), true))
		cmd := exec.CommandContext(t.Context(), name, args...)
		cmd.Env = append(os.Environ(), "BOARD_LINK="+link, "BOARD_TOKEN=none")
		var errs strings.Builder
		cmd.Stderr = &errs
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		seen := ""
		for in := bufio.NewScanner(out); in.Scan(); {
			if seen += in.Text() + "\n"; strings.Contains(in.Text(), "true") {
				assert.NoError(t, frost.Set(t.Context(), false))
			} else if strings.Contains(seen, "true") && strings.Contains(in.Text(), "false") {
				return
			}
		}
		t.Errorf("it ended: %s%s", seen, errs.String())
	}
	t.Run("Go", func(t *testing.T) {
		code, err := place.Go()
		require.NoError(t, err)
		dir := t.TempDir()
		file, program := filepath.Join(dir, "main.go"), filepath.Join(dir, "app")
		require.NoError(t, os.WriteFile(file, code, 0o600))
		out, err := exec.Command("go", "build", "-o", program, file).CombinedOutput()
		require.NoError(t, err, string(out))
		watches(t, program)
	})
	t.Run("JavaScript", func(t *testing.T) {
		node, err := exec.LookPath("node")
		if err != nil && os.Getenv("CI") != "true" {
			t.Skip("node is missing: make test installs it")
		}
		require.NoError(t, err)
		code, err := place.JS()
		require.NoError(t, err)
		module, err := filepath.Abs("../../js/small-pantry.js")
		require.NoError(t, err)
		base, _, _ := strings.Cut(link, "/boards/")
		text := strings.Replace(string(code), base+"/small-pantry.js", "file://"+module, 1)
		require.NotEqual(t, string(code), text)
		text += `
const opened = open(process.env.BOARD_LINK)
await opened.board.ready()
await opened.save()
const all = opened.board.records(plantings), ada = opened.board.records(best)
const id = await all.add({ crop: 'peas', bed: 'C4', 'spacing-cm': 7.5, done: false })
await ada.at('Ada').add(3)
if (all.get(id).crop !== 'peas' || ada.at('Ada').get() !== 3 || tankLitres.max !== 5000) process.exit(1)
`
		file := filepath.Join(t.TempDir(), "keys.mjs")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		watches(t, node, file)
	})
	t.Run("shell", func(t *testing.T) {
		code, err := place.Curl()
		require.NoError(t, err)
		assert.NotContains(t, string(code), "gate-code")
		lines, _, found := strings.Cut(string(code), "\n# Each change")
		require.True(t, found)
		file := filepath.Join(t.TempDir(), "keys.sh")
		require.NoError(t, os.WriteFile(file, []byte("set -e\n"+lines), 0o600))
		cmd := exec.Command("sh", file)
		cmd.Env = append(os.Environ(), "BOARD_TOKEN=none")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		tank, _, err := b.Entry(t.Context(), "tank/litres")
		require.NoError(t, err)
		assert.Equal(t, "401", tank.Value.String(), "400 is put, and 1 added")
		_, events, _ := strings.Cut(string(code), "as it happens.\n")
		require.NoError(t, os.WriteFile(file, []byte("exec "+events), 0o600))
		watches(t, "sh", file)
	})
}
