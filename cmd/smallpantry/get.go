package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/place"
)

func (a *app) get() *cobra.Command {
	var or string
	cmd := &cobra.Command{
		Use:   "get PLACE NAME",
		Short: "Print a value",
		Long: `get prints the value and a newline: text as it is, lists and maps as JSON, bytes as
base64, times in RFC 3339. If nothing is stored, the exit code is 3; --or prints
another value instead.`,
		Example: "  smallpantry get garden/plotbook reminder-hour\n  smallpantry get http://127.0.0.1:8437/boards/rowan-street tank/litres --or 0",
		Args:    exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := args[1]
			if err := checkNames(name); err != nil {
				return err
			}
			hasOr := cmd.Flags().Changed("or")
			p, err := a.read(args[0], place.Way{})
			if hasOr && errors.Is(err, pantry.ErrAbsent) {
				return a.printOr(name, or)
			}
			if err != nil {
				return err
			}
			defer p.Close()
			e, found, err := p.Get(cmd.Context(), name)
			switch {
			case err != nil:
				return err
			case !found && hasOr:
				return a.printOr(name, or)
			case !found:
				return nothingUnder(name, args[0], didYouMean(cmd.Context(), p, name))
			case a.json:
				return a.printJSON(e)
			}
			fmt.Fprintln(a.stdout, e.Value)
			return nil
		},
	}
	cmd.Flags().StringVar(&or, "or", "", "print `VALUE` where nothing is stored")
	return a.withJSON(cmd)
}

func (a *app) printOr(name, or string) error {
	if a.json {
		return a.printJSON(map[string]string{"name": name, "or": or})
	}
	fmt.Fprintln(a.stdout, or)
	return nil
}
