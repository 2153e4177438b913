package main

import (
	"errors"
	"fmt"
	"io/fs"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
)

func (a *app) repair() *cobra.Command {
	var copies bool
	cmd := &cobra.Command{
		Use:   "repair PLACE",
		Short: "Save what is intact in a damaged file",
		Long: `repair copies every intact entry of a damaged file to a new one, keeps the damaged
file beside it, and prints what was lost. An incomplete last line, which was never
acknowledged, is removed. A healthy file is not changed. PLACE is DIR/NAMESPACE, or
DATA/boards/BOARD for a board, on the server's machine.`,
		Example: "  smallpantry repair garden/plotbook",
		Args:    exactly(1),
		RunE: func(_ *cobra.Command, args []string) error {
			where, err := resolve(args[0])
			if err != nil {
				return err
			}
			if place.IsURL(where) {
				return usage("a board is repaired on the server's machine: smallpantry repair DATA/boards/BOARD")
			}
			dir, name, err := place.Split(where)
			if err != nil {
				return err
			}
			if err := place.NotExport(dir, name); err != nil {
				return err
			}
			var opts []pantry.RepairOption
			if copies {
				opts = append(opts, pantry.RemoveCopies())
			}
			r, err := pantry.Repair(dir, name, opts...)
			if errors.Is(err, fs.ErrNotExist) {
				return place.NoNamespace(dir, name)
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(repaired(r))
			}
			a.printReport(r)
			return nil
		},
	}
	cmd.Flags().BoolVar(&copies, "remove-copies", false, "also remove the kept copies of damaged files")
	return a.withJSON(cmd)
}

// repaired is a report as JSON.
func repaired(r pantry.Report) map[string]any {
	lost := []map[string]any{}
	for _, l := range r.Lost {
		lost = append(lost, map[string]any{"line": l.Line, "offset": l.Offset, "bytes": l.Bytes, "reason": l.Reason})
	}
	return map[string]any{"path": r.Path, "damaged": r.Damaged, "copy": r.Copy, "lost": lost, "entries": r.Entries, "removed": r.Removed}
}

func (a *app) printReport(r pantry.Report) {
	switch {
	case r.Damaged:
		fmt.Fprintf(a.stdout, "%s was damaged; %s saved\n", r.Path, term.Counted(r.Entries, "entry was", "entries were"))
	case len(r.Lost) > 0:
		fmt.Fprintf(a.stdout, "%s ended in an incomplete line, which was removed: it was never acknowledged\n", r.Path)
	default:
		fmt.Fprintf(a.stdout, "%s is healthy; nothing was changed\n", r.Path)
	}
	if len(r.Lost) > 0 {
		fmt.Fprintln(a.stdout)
		t := a.out().Table("line", "byte", "bytes", "what is wrong with it")
		t.Flexible = []int{3}
		for _, l := range r.Lost {
			t.Row(fmt.Sprint(l.Line), fmt.Sprint(l.Offset), fmt.Sprint(l.Bytes), l.Reason)
		}
		t.Print()
	}
	if r.Copy != "" {
		fmt.Fprintf(a.stdout, "\nthe damaged file is kept as %s\n", r.Copy)
	}
	for _, path := range r.Removed {
		fmt.Fprintf(a.stdout, "removed %s\n", path)
	}
}
