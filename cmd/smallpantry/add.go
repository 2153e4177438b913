package main

import (
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/value"
)

func (a *app) add() *cobra.Command {
	var start string
	cmd := &cobra.Command{
		Use:   "add PLACE NAME N",
		Short: "Add to a number; nobody's addition is lost",
		Long: `add adds N, which may be negative, to a number in one step, and prints the new
value. An absent entry starts from --start, else from the default that an app
has declared on this device, else from 0.`,
		Example: "  smallpantry add http://127.0.0.1:8437/b/rowan-street tank/litres -10",
		Args:    exactly(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberArg("N", args[2])
			if err != nil {
				return err
			}
			o := operation{op: "add", operand: n}
			if cmd.Flags().Changed("start") {
				o.started = true
				o.start, err = numberArg("--start", start)
			} else {
				o.start, err = value.Convert(value.Int(0), n.Kind())
			}
			if err != nil {
				return err
			}
			return a.operate(cmd, args[0], args[1], o)
		},
	}
	cmd.Flags().StringVar(&start, "start", "", "what an absent entry starts from (`N`)")
	return a.withJSON(cmd)
}
