// Package bundle bundles the page of a board in another directory, for tests.
package bundle

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Files are the bundled files.
var Files = []string{"page.js", "chunk.js", "chart.js", "page.css", "worker.js"}

// Build runs the go:generate lines of server/page.go on a copy of the page's sources in dir, which must
// be empty. from is the directory of package server. change, if not nil, can change the text of each
// source; its argument is a name such as card.jsx. The result is the directory of the bundled files.
func Build(from, dir string, change func(name, text string) string) (made string, err error) {
	from, err = filepath.Abs(from)
	if err != nil {
		return "", err
	}
	made = filepath.Join(dir, "page")
	if err := os.CopyFS(filepath.Join(made, "src"), os.DirFS(filepath.Join(from, "page", "src"))); err != nil {
		return "", err
	}
	if err := os.Symlink(filepath.Join(from, "page", "node_modules"), filepath.Join(made, "node_modules")); err != nil {
		return "", err
	}
	sources, err := filepath.Glob(filepath.Join(made, "src", "*"))
	if err != nil {
		return "", err
	}
	for _, path := range sources {
		raw, err := os.ReadFile(path)
		if err == nil && change != nil {
			err = os.WriteFile(path, []byte(change(filepath.Base(path), string(raw))), 0o600)
		}
		if err != nil {
			return "", err
		}
	}
	find := exec.Command("go", "tool", "-n", "esbuild")
	find.Dir = from
	esbuild, err := find.Output()
	if err != nil {
		return "", fmt.Errorf("go tool -n esbuild: %w", err)
	}
	source, err := os.ReadFile(filepath.Join(from, "page.go"))
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(string(source)) {
		command, is := strings.CutPrefix(strings.TrimSpace(line), "//go:generate go tool esbuild ")
		if !is {
			continue
		}
		var args []string
		for i, part := range strings.Split(command, `"`) { // every second part is quoted
			if i%2 == 1 {
				args = append(args, part)
			} else {
				args = append(args, strings.Fields(part)...)
			}
		}
		run := exec.Command(strings.TrimSpace(string(esbuild)), args...)
		run.Dir = dir
		if out, err := run.CombinedOutput(); err != nil {
			return "", fmt.Errorf("esbuild %s: %w\n%s", command, err, out)
		}
	}
	return made, nil
}
