package main

import (
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/demo"
)

func (a *app) demo() *cobra.Command {
	var o demo.Options
	cmd := &cobra.Command{
		Use: "demo",
		Example: `  smallpantry demo
  smallpantry demo --stay`,
		Short: "Play a story with made-up data in a temporary directory",
		Long: `demo plays six scenes of the Rowan Street community garden: a setting survives, a slip
is named, two phones count at once, a tunnel, an accident is undone, and what an app
forgot is found. Each figure it prints was read back from the store. The exit code is
1 if one is not as expected.`,
		Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := demo.Run(cmd.Context(), a.stdout, o); err != nil {
				return exitError{exitFailed, err.Error()}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&o.Stay, "stay", false, "leave the server running, and say how to look around")
	cmd.Flags().BoolVar(&o.All, "all", false, "play all 19 scenes")
	return cmd
}
