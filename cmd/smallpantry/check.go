package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/inspect"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/keyuse"
	"github.com/small-pantry/pantry/internal/ledger"
)

func (a *app) check() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "check PLACE",
		Example: `  smallpantry check garden/plotbook
  smallpantry check @garden`,
		Short: "Find what is wrong, or will be",
		Long: `check looks for damage, secrets that are not sealed (in old values too), large
values and files, similar names, and numbers stored as text. Where apps have declared
their keys, it also reports values that their key refuses. The exit code is 1 if there
are findings. Notes do not change the exit code: names without a declaration, and
keys that were never written or, where apps record their use (pantry.NoteUsage),
never read.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			start := time.Now()
			a.quiet = true // they are reported as findings
			p, err := a.read(args[0], place.Way{})
			if err != nil {
				return err
			}
			defer p.Close()
			loaded := time.Since(start)
			l, err := p.List(cmd.Context(), "")
			if err != nil {
				return err
			}
			looked, err := lookedAt(l, loaded)
			if err != nil {
				return err
			}
			looked.Past, err = p.History(cmd.Context(), 0, nil)
			if err != nil && !errors.Is(err, pantry.ErrDamaged) { // reported already
				return err
			}
			found, notes := looked.Findings()
			findings := append(a.damage(), found...)
			if a.json {
				err = a.printJSON(map[string]any{"findings": append([]inspect.Finding{}, findings...), "notes": append([]inspect.Finding{}, notes...)})
			} else {
				a.printFindings(p.Where(), findings, notes)
			}
			if err == nil && len(findings) > 0 {
				return exitError{exitFailed, ""}
			}
			return err
		},
	})
}

// damage returns the problems found when the file was opened.
func (a *app) damage() (out []inspect.Finding) {
	for _, p := range a.problems {
		if errors.Is(p.Err, pantry.ErrDamaged) {
			out = append(out, inspect.Finding{Code: "damage", Name: p.Name, Sentence: p.Err.Error()})
		}
		if duty := (*ledger.DutyError)(nil); errors.As(p.Err, &duty) {
			out = append(out, inspect.Finding{Code: "not-erased", Sentence: "the file still holds " + duty.Owed + ", which was to be erased; the next write tries again"})
		}
	}
	return out
}

func lookedAt(l place.Listing, loaded time.Duration) (inspect.Place, error) {
	p := inspect.Place{Load: loaded, Entries: l.Entries, Declared: l.Declared, Unread: map[string]int{}}
	var used keyuse.Notes
	if info, err := os.Stat(l.Path); err == nil {
		p.Bytes = info.Size()
		dir, file := filepath.Split(l.Path)
		if used, err = keyuse.Load(dir, strings.TrimSuffix(file, filepath.Ext(file))); err != nil {
			return p, err
		}
	}
	for _, k := range l.Declared {
		if use, noted := used.Keys[k.Name]; noted && !use.Read {
			p.Unread[k.Name] = used.Runs
		}
	}
	return p, nil
}

func (a *app) printFindings(where string, findings, notes []inspect.Finding) {
	if len(findings) == 0 {
		fmt.Fprintf(a.stdout, "%s: no findings\n", where)
	} else {
		fmt.Fprintf(a.stdout, "%s: %s\n\n", where, term.Counted(len(findings), "finding", "findings"))
		a.printParagraphs(findings)
	}
	if len(notes) > 0 {
		fmt.Fprintf(a.stdout, "\n%s:\n\n", term.Counted(len(notes), "note", "notes"))
		a.printParagraphs(notes)
	}
}

func (a *app) printParagraphs(list []inspect.Finding) {
	for _, f := range list {
		name := f.Name
		if name != "" {
			name += ": "
		}
		a.out().Paragraph(f.Code, 16, name+f.Sentence)
	}
}
