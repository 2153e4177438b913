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
value. An absent entry starts from 0, or from --start.`,
		Example: "  smallpantry add http://127.0.0.1:8437/b/rowan-street tank/litres -10",
		Args:    exactly(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkNames(args[1]); err != nil {
				return err
			}
			amount, err := numberArg("N", args[2])
			if err != nil {
				return err
			}
			var from value.Value
			if cmd.Flags().Changed("start") {
				if from, err = numberArg("--start", start); err != nil {
					return err
				}
			}
			p, err := a.open(args[0], way{create: true})
			if err != nil {
				return err
			}
			defer p.Close()
			e, err := p.add(cmd.Context(), args[1], amount, from)
			if err != nil {
				return err
			}
			return a.printEntry(e)
		},
	}
	cmd.Flags().StringVar(&start, "start", "", "what an absent entry starts from (`N`)")
	return a.withJSON(cmd)
}

// numberArg reads an argument that must be a number.
func numberArg(what, typed string) (value.Value, error) {
	v, err := value.Infer(typed)
	if err != nil || !v.Kind().Number() {
		return v, usage("%s is %s, and must be a number such as 10 or -2.5", what, value.Quote(typed))
	}
	return v, nil
}
