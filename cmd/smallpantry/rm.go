package main

import (
	"fmt"

	"github.com/spf13/cobra"
)

func (a *app) rm() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "rm PLACE NAME...",
		Short:   "Remove entries, all or none",
		Example: "  smallpantry rm garden/plotbook plot",
		Args:    atLeast(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			names := args[1:]
			if err := checkNames(names...); err != nil {
				return err
			}
			p, err := a.open(args[0], way{write: true})
			if err != nil {
				return err
			}
			defer p.Close()
			version, err := p.rm(cmd.Context(), names)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"version": version, "gone": names})
			}
			for _, name := range names {
				fmt.Fprintf(a.stdout, "removed %s\n", name)
			}
			return nil
		},
	}
	return a.withJSON(cmd)
}
