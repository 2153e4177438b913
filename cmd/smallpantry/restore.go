package main

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/board"
)

func (a *app) restore() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "restore PLACE@VERSION [NAME...]",
		Short: "Put it back as it was, as a new commit",
		Long: `restore makes the entries what they were at a version that log tells, in one
new commit, so that it can be undone in the same way. With NAMEs only these are
put back; what was absent then is removed.`,
		Example: "  smallpantry restore garden/plotbook@12 reminder-hour",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			bare, version, err := splitVersion(args[0])
			if err != nil {
				return err
			}
			if version < 0 {
				return usage("restore needs to know which version: write %s@VERSION; log tells them", args[0])
			}
			names := args[1:]
			if err := checkNames(names...); err != nil {
				return err
			}
			p, err := a.open(bare, way{write: true})
			if err != nil {
				return err
			}
			defer p.Close()
			then, err := p.at(cmd.Context(), version)
			if err != nil {
				return err
			}
			now, err := p.list(cmd.Context(), "")
			if err != nil {
				return err
			}
			d := compare(now.Entries, then)
			var changes []board.Change
			for _, e := range d.added {
				changes = append(changes, board.Change{Name: e.Name, New: e.Value})
			}
			for _, e := range d.gone {
				changes = append(changes, board.Change{Name: e.Name, Old: e.Value})
			}
			changes = append(changes, d.changed...)
			if len(names) > 0 {
				changes = slices.DeleteFunc(changes, func(c board.Change) bool { return !slices.Contains(names, c.Name) })
			}
			result := now.Version
			if len(changes) > 0 {
				if result, err = p.apply(cmd.Context(), changes); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(map[string]any{"version": result, "changed": changesJSON(changes)})
			}
			for _, c := range changes {
				fmt.Fprintf(a.stdout, "%s: %s → %s\n", c.Name, withKind(c.Old, c.New), withKind(c.New, c.Old))
			}
			if len(changes) == 0 {
				fmt.Fprintln(a.stdout, "nothing to put back: it is as it was")
			}
			return nil
		},
	}
	return a.withJSON(cmd)
}
