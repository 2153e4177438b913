package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
)

func (a *app) rename() *cobra.Command {
	return a.withJSON(a.withForce(&cobra.Command{
		Use:     "rename PLACE NAME NAME",
		Example: `  smallpantry rename garden/plotbook reminder_hour reminder-hour`,
		Short:   "Rename an entry; the new name must not exist",
		Args:    exactly(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkNames(args[1:]...); err != nil {
				return err
			}
			p, err := a.change(args[0], place.Way{Write: true})
			if err != nil {
				return err
			}
			defer p.Close()
			e, err := p.Rename(cmd.Context(), args[1], args[2], a.force)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(e)
			}
			fmt.Fprintf(a.stdout, "%s is %s now\n", args[1], args[2])
			return nil
		},
	}))
}
