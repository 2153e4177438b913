package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A new Go app is complete: its own test passes, it keeps what is set, and refuses what is wrong.
func TestNewGo(t *testing.T) {
	t.Parallel()
	dir, home := filepath.Join(t.TempDir(), "shed-app"), t.TempDir()
	var out, errs strings.Builder
	processMu.Lock() // the app uses the clone in which the command runs
	code := run([]string{"new", "go", dir}, nil, &out, &errs)
	processMu.Unlock()
	require.Zero(t, code, errs.String())
	assert.Contains(t, out.String(), "go run . hour 7")
	link := ""
	run := func(args ...string) string {
		cmd := exec.Command("go", args...)
		cmd.Dir, cmd.Env = dir, append(slices.Clip(environ), "BOARD_LINK="+link, "GOPROXY=off", "GOSUMDB=off", "GOFLAGS=-mod=mod", "XDG_CONFIG_HOME="+home)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "go %v: %s", args, out)
		return string(out)
	}
	run("mod", "tidy")
	run("vet", "./...")
	run("test", "./...")
	assert.Contains(t, run("run", ".", "hour", "7"), "remind at 7:00")
	assert.Contains(t, run("run", ".", "hour", "25"), "Enter a whole number from 0 to 23.\nremind at 7:00")
	s := boardtest.NewServer(t)
	link = s.Link("garden")
	assert.Regexp(t, `^1 cans, current as of \d\d:\d\d\n`, run("run", ".", "can"))
	s.Cut()
	assert.Regexp(t, `(?m)^2 cans, queued as of \d\d:\d\d\n.* will be sent`, run("run", ".", "can"))
	main, err := os.ReadFile(filepath.Join(dir, "main.go"))
	require.NoError(t, err)
	lines := 0
	for line := range strings.Lines(string(main)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "//") {
			lines++
		}
	}
	assert.LessOrEqual(t, lines, 60)
}

func TestNewRefuses(t *testing.T) {
	t.Parallel()
	full := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(full, "notes"), nil, 0o600))
	for says, args := range map[string][]string{
		"is not empty":          {"new", "go", full},
		`no starter app "rust"`: {"new", "rust", filepath.Join(full, "app")},
		"can't be the name":     {"new", "page", filepath.Join(full, "My App")},
		"new needs 2 arguments": {"new", "go"},
	} {
		var out, errs strings.Builder
		assert.NotZero(t, run(args, nil, &out, &errs), args)
		assert.Contains(t, errs.String(), says)
	}
}
