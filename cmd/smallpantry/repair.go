package main

import (
	"errors"
	"fmt"
	"io/fs"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/term"
)

func (a *app) repair() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "repair PLACE",
		Short: "Salvage a damaged file",
		Long: `repair writes every intact entry of a damaged file to a fresh one, keeps the
damaged file beside it, and tells what was lost. A torn end, which nobody was
told was stored, is cut. A file in good health stays as it is. PLACE is
DIR/NAMESPACE; for a board, DATA/boards/BOARD on the server's machine.`,
		Example: "  smallpantry repair garden/plotbook",
		Args:    exactly(1),
		RunE: func(_ *cobra.Command, args []string) error {
			where, err := resolve(args[0])
			if err != nil {
				return err
			}
			if place.IsURL(where) {
				return usage("a board is repaired where its file lies: repair DATA/boards/BOARD on the server's machine")
			}
			dir, name, err := place.Split(where)
			if err != nil {
				return err
			}
			if err := place.NotExport(dir, name); err != nil {
				return err
			}
			r, err := pantry.Repair(dir, name)
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
	return a.withJSON(cmd)
}

// repaired is the JSON form of a report.
func repaired(r pantry.Report) map[string]any {
	lost := []map[string]any{}
	for _, l := range r.Lost {
		lost = append(lost, map[string]any{"line": l.Line, "offset": l.Offset, "bytes": l.Bytes, "reason": l.Reason})
	}
	return map[string]any{"path": r.Path, "damaged": r.Damaged, "copy": r.Copy, "lost": lost, "entries": r.Entries}
}

func (a *app) printReport(r pantry.Report) {
	switch {
	case r.Damaged:
		fmt.Fprintf(a.stdout, "%s was damaged; %s saved\n", r.Path, term.Counted(r.Entries, "entry was", "entries were"))
	case len(r.Lost) > 0:
		fmt.Fprintf(a.stdout, "%s had a torn end, which was cut: nothing in the file says that it was ever stored\n", r.Path)
	default:
		fmt.Fprintf(a.stdout, "%s is in good health; nothing was changed\n", r.Path)
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
		fmt.Fprintf(a.stdout, "\nas it was, it is kept in %s\n", r.Copy)
	}
}
