package main

import (
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/entry"
)

func (a *app) restore() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:   "restore PLACE@WHEN [NAME...]",
		Short: "Restore an earlier state in a new commit",
		Long: `restore sets the entries back to an earlier state in one new commit, which can be
undone in the same way. WHEN is a version from history (@12), a time
(@2026-05-03T09:00) or an age (@-10m, @-2h, @-3d). With NAMEs it restores only these.
Entries that did not exist then are removed. A moment before the first commit removes
everything, and needs --yes.`,
		Example: "  smallpantry restore garden/plotbook@12 reminder-hour\n  smallpantry restore garden/plotbook@-2h",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			bare, when, err := place.SplitWhen(args[0], time.Now())
			if err != nil {
				return err
			}
			if when.IsNow() {
				return usage("restore needs a time: write %[1]s@12 for a version from history, or %[1]s@-10m, or %[1]s@2026-05-03T09:00", place.Shown(args[0]))
			}
			names := args[1:]
			if err := checkNames(names...); err != nil {
				return err
			}
			p, err := a.change(bare, place.Way{Write: true})
			if err != nil {
				return err
			}
			defer p.Close()
			then, version, err := p.At(cmd.Context(), when)
			if err != nil {
				return err
			}
			if version == 0 && !yes {
				return usage("nothing was stored in %s at that time, so restore would remove everything; add --yes to confirm", p.Where())
			}
			now, err := p.List(cmd.Context(), "")
			if err != nil {
				return err
			}
			changes := place.Compare(now.Entries, then).Changes(true)
			if len(names) > 0 {
				changes = slices.DeleteFunc(changes, func(c entry.Change) bool { return !slices.Contains(names, c.Name) })
			}
			result := now.Version
			if len(changes) > 0 {
				if result, err = p.Restore(cmd.Context(), when, names, changes, a.force); err != nil {
					return err
				}
			}
			return a.printRestored(result, changes)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "also restore a moment before the first commit")
	return a.withJSON(a.withForce(cmd))
}

func (a *app) printRestored(version int64, changes []entry.Change) error {
	if a.json {
		return a.printJSON(map[string]any{"version": version, "changed": append([]entry.Change{}, changes...)})
	}
	for _, c := range changes {
		fmt.Fprintf(a.stdout, "%s: %s → %s\n", c.Name, term.Brief(c.Old, c.New), term.Brief(c.New, c.Old))
	}
	if len(changes) == 0 {
		fmt.Fprintln(a.stdout, "nothing to restore: nothing has changed since")
	}
	return nil
}
