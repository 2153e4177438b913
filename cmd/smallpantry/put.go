package main

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/value"
)

func (a *app) put() *cobra.Command {
	var kind string
	var ifVersion int64
	var ifAbsent bool
	cmd := &cobra.Command{
		Use:   "put PLACE NAME VALUE",
		Short: "Store a value",
		Long: `put stores a value. It is read as the kind that is declared, else stored; else true
and false are bool, a whole number is an int, a number with a point a float,
[…] a list, {…} a map, and the rest text. What can't be read so is refused;
--kind decides otherwise. What an app has declared holds: kind, range, choices and
length; only --force goes past it. The VALUE - is read from standard input.`,
		Example: "  smallpantry put garden/plotbook reminder-hour 7\n  smallpantry put garden/plotbook plot 0042 --kind text",
		Args:    exactly(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			e := entry.Edit{Name: args[1], Op: value.Op{Verb: value.Put, Form: value.AsTyped}}
			asked := cmd.Flags().Changed("if-version")
			switch {
			case ifAbsent && asked:
				return usage("--if-absent and --if-version can't both hold")
			case ifVersion < 0:
				return usage("--if-version is %d, and a version is at least 0", ifVersion)
			case ifAbsent || asked:
				e = e.If(ifVersion, time.Time{})
			}
			var err error
			if kind != "" {
				if e.Op.Kind, err = value.ParseKind(kind); err != nil {
					return usageError{err}
				}
			}
			if e.Op.Raw, err = a.typed(args[2]); err != nil {
				return err
			}
			return a.edit(cmd.Context(), args[0], e, place.Way{MakeDir: true})
		},
	}
	cmd.Flags().StringVar(&kind, "kind", "", "store it as `KIND`: bool, int, float, text, bytes, time, list, map")
	cmd.Flags().Int64Var(&ifVersion, "if-version", 0, "only if the entry is at version `N`; 0 means absent")
	cmd.Flags().BoolVar(&ifAbsent, "if-absent", false, "only if nothing is stored")
	return a.withJSON(a.withForce(cmd))
}

// typed gives the VALUE of a call, from standard input for "-". One newline
// at its end is the terminal's, not the value's.
func (a *app) typed(arg string) (string, error) {
	if arg != "-" {
		return arg, nil
	}
	b, err := io.ReadAll(io.LimitReader(a.stdin, 2*ledger.MaxValue))
	if err != nil {
		return "", fmt.Errorf("read standard input: %w", err)
	}
	return strings.TrimSuffix(string(b), "\n"), nil
}
