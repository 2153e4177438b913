package main

import (
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/value"
)

func (a *app) append() *cobra.Command {
	o := operation{op: "append", start: value.List()}
	cmd := &cobra.Command{
		Use:     "append PLACE NAME ITEM",
		Short:   "Add an item at the end of a list",
		Long:    "append adds an item, which is read as put reads a VALUE, at the end of a list in\none step, and prints the list. An absent entry becomes a list.",
		Example: "  smallpantry append garden/plotbook hose/queue C4 --unique",
		Args:    exactly(3),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if o.keep < 0 {
				return usage("--keep is %d, and must be at least 0", o.keep)
			}
			if o.operand, err = itemArg(args[2]); err != nil {
				return err
			}
			return a.operate(cmd, args[0], args[1], o)
		},
	}
	cmd.Flags().IntVar(&o.keep, "keep", 0, "keep the newest `N` items only; 0 keeps all")
	cmd.Flags().BoolVar(&o.unique, "unique", false, "not if the item is in the list already")
	return a.withJSON(cmd)
}
