package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/export"
	"github.com/small-pantry/pantry/internal/cli/place"
	terms "github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/value"
)

func (a *app) importFile() *cobra.Command {
	var replace, dry bool
	cmd := &cobra.Command{
		Use:   "import PLACE FILE",
		Short: "Store the entries of a file, all or none",
		Long: `import stores the entries of a FILE in .json, .jsonl or .csv, such as export writes.
It also reads a plain JSON object such as {"reminder-hour":7} and a table with the
columns name,value; their kinds are found as put finds them. All entries are one
commit. If anything in the file is wrong, nothing is stored. --replace also removes
entries that are not in the file. --dry-run prints what would change.`,
		Example: "  smallpantry import garden/plotbook plotbook.csv --dry-run",
		Args:    exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			wanted, err := a.entriesOf(args[1])
			if err != nil {
				return err
			}
			return a.store(cmd.Context(), args[0], wanted, place.Way{Create: !dry, MakeDir: !dry}, replace, dry)
		},
	}
	cmd.Flags().BoolVar(&replace, "replace", false, "remove what is not in the file")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "store nothing; say what would change")
	return a.withJSON(a.withForce(cmd))
}

// Larger imports show their progress on a terminal.
const (
	longFile   = 4 << 20 // bytes to read
	manyStored = 20_000  // entries to store
)

// progress shows the progress of a long operation on a terminal until done is called. max is the
// total in bytes or entries; -1 means unknown.
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
func (a *app) entriesOf(path string) ([]export.Put, error) {
	f, err := formatOf(path)
	if err != nil {
		return nil, err
	}
	if err := place.NotNamespace(path, "copy reads it: name it without the ending"); err != nil {
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
	puts, err := f.Decode(r)
	if err != nil {
		return nil, exitError{exitFailed, fmt.Sprintf("%s: %v; nothing was stored", path, err)}
	}
	return puts, nil
}

// wanted returns the entries that puts produce from the present ones.
func (a *app) wanted(puts []export.Put, l place.Listing) ([]entry.Entry, error) {
	now := map[string]value.Value{}
	for _, e := range l.Entries {
		now[e.Name] = e.Value
	}
	if a.force {
		l.Declared = nil
	}
	find := entry.Among(l.Declared)
	out := make([]entry.Entry, len(puts))
	for i, p := range puts {
		v := p.Op.Operand
		if p.Op.Form != value.Known {
			var err error
			if v, err = rules.Read(p.Op, p.Name, entry.DeclaredFor(p.Name, find), now[p.Name]); err != nil {
				return nil, fmt.Errorf("nothing was stored: %w", err)
			}
		}
		out[i] = entry.Entry{Name: p.Name, Value: v}
	}
	return out, nil
}

// store makes a place hold the wanted entries, in one commit. With replace it removes all others.
// With dry it only prints the changes.
func (a *app) store(ctx context.Context, where string, puts []export.Put, w place.Way, replace, dry bool) error {
	p, err := a.change(where, w)
	if dry && errors.Is(err, pantry.ErrAbsent) {
		wanted, err := a.wanted(puts, place.Listing{})
		if err != nil {
			return err
		}
		return a.printPlan(place.Compare(nil, wanted).Changes(replace), 0, dry)
	}
	if err != nil {
		return err
	}
	defer p.Close()
	now, err := p.List(ctx, "")
	if err != nil {
		return err
	}
	wanted, err := a.wanted(puts, now)
	if err != nil {
		return err
	}
	changes := place.Compare(now.Entries, wanted).Changes(replace)
	version := now.Version
	if len(changes) > 0 && !dry {
		done := func() {}
		if len(changes) >= manyStored {
			_, done = a.progress(fmt.Sprintf("storing %d entries", len(changes)), -1)
		}
		version, err = p.Apply(ctx, changes, a.force)
		done()
		if err != nil {
			return err
		}
		if replace {
			if err := p.Replaced(); err != nil {
				return fmt.Errorf("the import is complete, but the file still has its old id: %w", err)
			}
		}
	}
	return a.printPlan(changes, version, dry)
}

// printPlan prints what changed, or would change.
func (a *app) printPlan(changes []entry.Change, version int64, dry bool) error {
	if a.json {
		return a.printJSON(map[string]any{"version": version, "dry_run": dry, "changed": append([]entry.Change{}, changes...)})
	}
	for i, c := range changes {
		// A dry run prints everything; afterwards, history has the rest.
		if rest := len(changes) - i; !dry && i >= 20 && rest > 1 {
			fmt.Fprintf(a.stdout, "… and %d more; see history\n", rest)
			break
		}
		fmt.Fprintf(a.stdout, "%s: %s → %s\n", c.Name, terms.Brief(c.Old, c.New), terms.Brief(c.New, c.Old))
	}
	did := "changed"
	if dry {
		did = "would change"
	}
	fmt.Fprintf(a.stdout, "%s %s\n", did, terms.Counted(len(changes), "entry", "entries"))
	return nil
}

// formatOf returns the format for the extension of a file.
func formatOf(file string) (export.Format, error) {
	f, err := export.FormatOf(file)
	if err != nil {
		err = usageError{err}
	}
	return f, err
}
