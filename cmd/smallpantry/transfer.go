package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"github.com/small-pantry/pantry/board"
)

// From these sizes on, what takes long is shown on a terminal.
const (
	longFile   = 4 << 20 // bytes to read
	manyStored = 20_000  // entries to store
)

// progress shows on a terminal how far something has come, of max bytes, or
// with -1 only that it goes on, until done is called.
func (a *app) progress(what string, max int64) (bar io.Writer, done func()) {
	errs, isFile := a.stderr.(*os.File)
	if !isFile || os.Getenv("NO_COLOR") != "" || !term.IsTerminal(int(errs.Fd())) {
		return io.Discard, func() {}
	}
	options := []progressbar.Option{
		progressbar.OptionSetWriter(errs), progressbar.OptionSetDescription(what), progressbar.OptionClearOnFinish(),
		progressbar.OptionThrottle(50 * time.Millisecond), progressbar.OptionSetWidth(30), progressbar.OptionSetPredictTime(max > 0),
	}
	if max < 0 {
		options = append(options, progressbar.OptionSpinnerType(9), progressbar.OptionSetRenderBlankState(true))
	}
	p := progressbar.NewOptions64(max, options...)
	return p, func() { _ = p.Finish() }
}

// entriesOf reads the entries of a file.
func (a *app) entriesOf(path string) ([]board.Entry, error) {
	f, err := formatOf(path)
	if err != nil {
		return nil, err
	}
	if err := notNamespace(path, "copy reads it: name it without the ending"); err != nil {
		return nil, err
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	var r io.Reader = file
	if info.Size() >= longFile {
		bar, done := a.progress("reading "+filepath.Base(path), info.Size())
		defer done()
		r = io.TeeReader(file, bar)
	}
	entries, err := f.decode(r)
	if err != nil {
		return nil, exitError{exitFailed, fmt.Sprintf("%s: %v; nothing was stored", path, err)}
	}
	return entries, nil
}

// plan gives the changes that make now hold wanted and, with replace, nothing else.
func plan(now, wanted []board.Entry, replace bool) (changes []board.Change) {
	d := compare(now, wanted)
	for _, e := range d.added {
		changes = append(changes, board.Change{Name: e.Name, New: e.Value})
	}
	changes = append(changes, d.changed...)
	if replace {
		for _, e := range d.gone {
			changes = append(changes, board.Change{Name: e.Name, Old: e.Value})
		}
	}
	return changes
}

// store makes a place hold the entries that are wanted, in one commit, and with
// replace no others; with dry it only tells what that would change.
func (a *app) store(ctx context.Context, where string, wanted []board.Entry, replace, dry bool) error {
	p, err := a.open(where, way{create: !dry})
	if dry && code(err) == exitAbsent {
		return a.printPlan(plan(nil, wanted, replace), 0, dry)
	}
	if err != nil {
		return err
	}
	defer p.Close()
	now, err := p.list(ctx, "")
	if err != nil {
		return err
	}
	changes := plan(now.Entries, wanted, replace)
	version := now.Version
	if len(changes) > 0 && !dry {
		done := func() {}
		if len(changes) >= manyStored {
			_, done = a.progress(fmt.Sprintf("storing %d entries", len(changes)), -1)
		}
		version, err = p.apply(ctx, changes)
		done()
		if err != nil {
			return err
		}
		if replace {
			if err := p.replaced(); err != nil {
				return fmt.Errorf("all is imported, but the file has its old id: %w", err)
			}
		}
	}
	return a.printPlan(changes, version, dry)
}

// printPlan tells what was changed, or would be.
func (a *app) printPlan(changes []board.Change, version int64, dry bool) error {
	if a.json {
		return a.printJSON(map[string]any{"version": version, "dry_run": dry, "changed": changesJSON(changes)})
	}
	for i, c := range changes {
		// A dry run is there to be read; what is done can be read in the log.
		if rest := len(changes) - i; !dry && i >= 20 && rest > 1 {
			fmt.Fprintf(a.stdout, "… and %d more, which the log tells\n", rest)
			break
		}
		fmt.Fprintf(a.stdout, "%s: %s → %s\n", c.Name, withKind(c.Old, c.New), withKind(c.New, c.Old))
	}
	did := "changed"
	if dry {
		did = "would change"
	}
	fmt.Fprintf(a.stdout, "%s %s\n", did, counted(len(changes), "entry", "entries"))
	return nil
}
