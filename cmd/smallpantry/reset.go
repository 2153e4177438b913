package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
)

func (a *app) reset() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:     "reset PLACE --yes",
		Example: `  smallpantry reset garden/plotbook --yes`,
		Short:   "Remove every entry",
		Long: `reset removes every entry of any name and kind. On a device, no old value stays in
the file. A board keeps its newest commits, so restore can undo it.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !yes {
				return usage("reset removes everything in %s; add --yes to confirm", place.Shown(args[0]))
			}
			p, err := a.change(args[0], place.Way{Write: true})
			if err != nil {
				return err
			}
			defer p.Close()
			version, gone, err := p.Reset(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"version": version, "gone": gone})
			}
			fmt.Fprintf(a.stdout, "removed %s\n", term.Counted(len(gone), "entry", "entries"))
			return nil
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "yes, everything")
	return a.withJSON(cmd)
}
