package main

import (
	"fmt"

	"github.com/spf13/cobra"
)

func (a *app) get() *cobra.Command {
	var or string
	cmd := &cobra.Command{
		Use:   "get PLACE NAME",
		Short: "Print a value",
		Long: `get prints the value and a newline: text bare, lists and maps as JSON, bytes as
base64, times as RFC 3339. Where nothing is stored the exit code is 3, unless
--or says what to print instead.`,
		Example: "  smallpantry get garden/plotbook reminder-hour\n  smallpantry get http://127.0.0.1:8437/b/rowan-street tank/litres --or 0",
		Args:    exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := args[1]
			if err := checkNames(name); err != nil {
				return err
			}
			hasOr := cmd.Flags().Changed("or")
			p, err := a.open(args[0], way{})
			if hasOr && code(err) == exitAbsent {
				return a.printOr(name, or)
			}
			if err != nil {
				return err
			}
			defer p.Close()
			e, found, err := p.get(cmd.Context(), name)
			switch {
			case err != nil:
				return err
			case !found && hasOr:
				return a.printOr(name, or)
			case !found:
				return exitError{exitAbsent, fmt.Sprintf("nothing is stored under %s in %s", name, args[0])}
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

// code gives the exit code that an error carries, or that of success.
func code(err error) int {
	if e, ok := err.(exitError); ok {
		return e.code
	}
	return exitDone
}

func (a *app) printOr(name, or string) error {
	if a.json {
		return a.printJSON(map[string]string{"name": name, "or": or})
	}
	fmt.Fprintln(a.stdout, or)
	return nil
}
