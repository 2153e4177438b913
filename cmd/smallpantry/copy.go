package main

import (
	"slices"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/export"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
)

func (a *app) copy() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "copy PLACE PLACE [NAME...]",
		Short: "Copy entries to another place, with their names and kinds",
		Long: `copy stores the entries of the first PLACE, which can be PLACE@WHEN, in the second,
in one commit. With NAMEs it copies only these. Other entries there stay.`,
		Example: "  smallpantry copy garden/plotbook http://127.0.0.1:8437/boards/rowan-street reminder-hour",
		Args:    atLeast(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			names := args[2:]
			if err := checkNames(names...); err != nil {
				return err
			}
			from, err := a.entries(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			for _, name := range names {
				if !slices.ContainsFunc(from, func(e entry.Entry) bool { return e.Name == name }) {
					return nothingUnder(name, args[0], "; nothing was copied")
				}
			}
			if len(names) > 0 {
				from = slices.DeleteFunc(from, func(e entry.Entry) bool { return !slices.Contains(names, e.Name) })
			}
			return a.store(cmd.Context(), args[1], export.Puts(from), place.Way{Create: true}, false, false)
		},
	}
	return a.withJSON(a.withForce(cmd))
}
