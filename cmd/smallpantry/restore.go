package main

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/term"
)

func (a *app) restore() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "restore PLACE@VERSION [NAME...]",
		Short: "Put it back as it was, as a new commit",
		Long: `restore makes the entries what they were at a version that history tells, in one
new commit, so that it can be undone in the same way. With NAMEs only these are
put back; what was absent then is removed.`,
		Example: "  smallpantry restore garden/plotbook@12 reminder-hour",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			bare, version, err := place.SplitVersion(args[0])
			if err != nil {
				return err
			}
			if version < 0 {
				return usage("restore needs to know which version: write %s@VERSION; history tells them", args[0])
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
			then, err := p.At(cmd.Context(), version)
			if err != nil {
				return err
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
				if result, err = p.Apply(cmd.Context(), changes); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(map[string]any{"version": result, "changed": append([]entry.Change{}, changes...)})
			}
			for _, c := range changes {
				fmt.Fprintf(a.stdout, "%s: %s → %s\n", c.Name, term.Brief(c.Old, c.New), term.Brief(c.New, c.Old))
			}
			if len(changes) == 0 {
				fmt.Fprintln(a.stdout, "nothing to put back: it is as it was")
			}
			return nil
		},
	}
	return a.withJSON(cmd)
}
