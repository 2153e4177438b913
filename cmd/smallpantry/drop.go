package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/value"
)

func (a *app) drop() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "drop PLACE NAME...",
		Short:   "Remove entries, all or none",
		Example: "  smallpantry drop garden/plotbook plot",
		Args:    atLeast(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			names := args[1:]
			if err := checkNames(names...); err != nil {
				return err
			}
			p, err := a.change(args[0], place.Way{Write: true})
			if err != nil {
				return err
			}
			defer p.Close()
			edits := make([]entry.Edit, len(names))
			for i, name := range names {
				edits[i] = entry.Edit{Name: name, Op: value.Op{Verb: value.Drop}}
			}
			done, err := p.Commit(cmd.Context(), edits)
			if errors.Is(err, pantry.ErrAbsent) {
				return exitError{exitAbsent, fmt.Sprintf("%v; nothing was removed", err)}
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"version": done.Version, "gone": names})
			}
			for _, name := range names {
				fmt.Fprintf(a.stdout, "removed %s\n", name)
			}
			return nil
		},
	}
	return a.withJSON(cmd)
}
