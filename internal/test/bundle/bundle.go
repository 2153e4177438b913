// Package bundle bundles the page of a board, and the client for pages, in another directory, for tests.
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
	made = filepath.Join(dir, "page")
	modules, err := filepath.Abs(filepath.Join(from, "page", "node_modules"))
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(made, 0o700); err != nil {
		return "", err
	}
	if err := os.Symlink(modules, filepath.Join(made, "node_modules")); err != nil {
		return "", err
	}
	return made, generate(from, "page.go", filepath.Join("page", "src"), dir, change)
}

// Module is Build for the client of a board; from is the directory of package js. The result is the
// path of the module.
func Module(from, dir string, change func(name, text string) string) (made string, err error) {
	return filepath.Join(dir, "small-pantry.js"), generate(from, "js.go", "src", dir, change)
}

// generate runs the go:generate lines of a Go file on a copy of sources.
func generate(from, file, sources, dir string, change func(name, text string) string) error {
	from, err := filepath.Abs(from)
	if err != nil {
		return err
	}
	if err := os.CopyFS(filepath.Join(dir, sources), os.DirFS(filepath.Join(from, sources))); err != nil {
		return err
	}
	paths, err := filepath.Glob(filepath.Join(dir, sources, "*"))
	if err != nil {
		return err
	}
	for _, path := range paths {
		raw, err := os.ReadFile(path)
		if err == nil && change != nil {
			err = os.WriteFile(path, []byte(change(filepath.Base(path), string(raw))), 0o600)
		}
		if err != nil {
			return err
		}
	}
	find := exec.Command("go", "tool", "-n", "esbuild")
	find.Dir = from
	esbuild, err := find.Output()
	if err != nil {
		return fmt.Errorf("go tool -n esbuild: %w", err)
	}
	source, err := os.ReadFile(filepath.Join(from, file))
	if err != nil {
		return err
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
			return fmt.Errorf("esbuild %s: %w\n%s", command, err, out)
		}
	}
	return nil
}
