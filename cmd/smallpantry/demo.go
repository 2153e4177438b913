package main

import (
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/demo"
)

func (a *app) demo() *cobra.Command {
	var stay bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Play a story with made-up data in a temporary directory",
		Long: `demo plays the story of the Rowan Street community garden: settings on a phone that
are closed and opened again, then a board shared by two phones and a display. Each
figure it prints was read back from the store. The exit code is 1 if one is not as
expected.`,
		Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := demo.Run(cmd.Context(), a.stdout, stay); err != nil {
				return exitError{exitFailed, err.Error()}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&stay, "stay", false, "leave the server running, and say how to look around")
	return cmd
}
