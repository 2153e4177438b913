package main

import (
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/value"
)

func (a *app) remove() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use:     "remove PLACE NAME ITEM",
		Short:   "Take an item out of a list",
		Long:    "remove takes every item that equals ITEM out of a list in one step, and prints\nthe list. To remove a whole entry there is rm.",
		Example: "  smallpantry remove garden/plotbook hose/queue C4",
		Args:    exactly(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			item, err := itemArg(args[2])
			if err != nil {
				return err
			}
			return a.operate(cmd, args[0], args[1], operation{op: "remove", operand: item, start: value.List()})
		},
	})
}
