package main

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/google/renameio/v2/maybe"
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/scan"
)

//go:embed starter
var starters embed.FS

// modulePath is the path of this module, which a new app requires.
const modulePath = "github.com/small-pantry/pantry"

func (a *app) newApp() *cobra.Command {
	board := ""
	cmd := &cobra.Command{
		Use:   "new go|page|kotlin DIR",
		Short: "Create a small app to start from",
		Long: `new creates a small app in a new directory: two settings with rules, a list, a counter
that several phones share, what to show without a network, refusals, a reset, and its
test. go is a Go module; page is one HTML file, which serve --pages shows on a phone;
kotlin is an app for the JVM of this machine, and is made inside a clone of Small Pantry.`,
		Example: "  smallpantry new go garden-app\n  smallpantry new page garden-page && smallpantry serve --board garden --pages garden-page --listen :8437\n  smallpantry new kotlin ../garden-kotlin && ../garden-kotlin/run hour 7",
		Args:    exactly(2),
		RunE: func(_ *cobra.Command, args []string) error {
			kind, dir := args[0], args[1]
			if kind != "go" && kind != "page" && kind != "kotlin" {
				return usage("there is no starter app %s; there are go, page and kotlin", scan.Quote(kind))
			}
			clone, err := findClone()
			if kind == "kotlin" && err != nil {
				return errors.New("the app in Kotlin is built from the sources of Small Pantry: run this in a clone of it")
			}
			name := strings.ToLower(filepath.Base(dir))
			if err := pantry.CheckNamespace(name); err != nil {
				return usageError{err}
			}
			if files, err := os.ReadDir(dir); err == nil && len(files) > 0 {
				return fmt.Errorf("%s is not empty; choose a new directory", dir)
			}
			if err := a.writeStarter(kind, dir, strings.NewReplacer("BOARD_LINK", "BOARD_LINK", "APP", name, "BOARD", board, "CLONE", clone)); err != nil {
				return err
			}
			fmt.Fprintf(a.stdout, "created %s\n\n%s", dir, nextSteps(kind, dir, board))
			return nil
		},
	}
	cmd.Flags().StringVar(&board, "board", "garden", "the name of the `BOARD` that the page uses")
	return cmd
}

func (a *app) writeStarter(kind, dir string, names *strings.Replacer) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	root := "starter/" + kind
	files, err := fs.ReadDir(starters, root)
	if err != nil {
		return err
	}
	for _, f := range files {
		text, err := fs.ReadFile(starters, root+"/"+f.Name())
		if err == nil {
			path := filepath.Join(dir, strings.TrimSuffix(f.Name(), ".txt"))
			mode := os.FileMode(0o644)
			if strings.HasPrefix(string(text), "#!") {
				mode = 0o755
			}
			err = maybe.WriteFile(path, []byte(names.Replace(string(text))), mode)
		}
		if err != nil {
			return err
		}
	}
	if kind == "go" {
		return maybe.WriteFile(filepath.Join(dir, "go.mod"), []byte(names.Replace(goMod())), 0o644)
	}
	return nil
}

// goMod returns the go.mod of a new app. In a clone of this module the app uses the clone.
func goMod() string {
	version := "v0.0.0"
	if info, ok := debug.ReadBuildInfo(); ok && strings.HasPrefix(info.Main.Version, "v") && !strings.Contains(info.Main.Version, "+dirty") {
		version = info.Main.Version
	}
	text := "module APP\n\ngo 1.26\n\nrequire " + modulePath + " " + version + "\n"
	if clone, err := findClone(); err == nil {
		text = "module APP\n\ngo 1.26\n\nrequire " + modulePath + " v0.0.0\n\nreplace " + modulePath + " => " + clone + "\n"
	}
	return text
}

// findClone returns the directory of this module if the command runs inside a clone of it.
func findClone() (string, error) {
	dir, err := os.Getwd()
	for ; err == nil; dir = filepath.Dir(dir) {
		mod, readErr := os.ReadFile(filepath.Join(dir, "go.mod"))
		if readErr == nil && strings.HasPrefix(string(mod), "module "+modulePath+"\n") {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", errors.New("not in a clone")
		}
	}
	return "", err
}

func nextSteps(kind, dir, board string) string {
	switch kind {
	case "kotlin":
		run := filepath.Join(dir, "run")
		if !filepath.IsAbs(run) && !strings.HasPrefix(run, "..") {
			run = "./" + run
		}
		return fmt.Sprintf("Try it; the first build takes a minute:\n\n    %[1]s hour 7\n    %[1]s buy peas\n    %[1]s test\n\nWith BOARD_LINK set to a board's link, %[1]s can counts there.\n", run)
	case "page":
		return fmt.Sprintf("Open it on a phone, with the QR code that this prints:\n\n    smallpantry serve --board %s --pages %s --listen :8437\n", board, dir)
	}
	return fmt.Sprintf("Try it:\n\n    cd %s\n    go mod tidy\n    go test\n    go run . hour 7\n    go run . buy peas\n\nWith BOARD_LINK set to a board's link, it also counts there.\n", dir)
}
