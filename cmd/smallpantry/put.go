package main

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

func (a *app) put() *cobra.Command {
	var kind string
	var ifVersion int64
	var ifAbsent bool
	cmd := &cobra.Command{
		Use:   "put PLACE NAME VALUE",
		Short: "Put a value under a name",
		Long: `put stores a value. It is read as the declared kind, else as the stored kind. For a
new name, true and false are bool, a whole number is an int, a number with a point is
a float, […] is a list, {…} is a map, and anything else is text. A value that can't be
read that way is refused, unless --kind names another kind. Declared kinds, ranges,
choices and lengths are checked; --force skips that. The VALUE - is read from
standard input.`,
		Example: "  smallpantry put garden/plotbook reminder-hour 7\n  smallpantry put garden/plotbook plot 0042 --kind text",
		Args:    exactly(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			e := entry.Edit{Name: args[1], Op: value.Op{Verb: value.Put, Form: value.AsTyped}}
			asked := cmd.Flags().Changed("if-version")
			switch {
			case ifAbsent && asked:
				return usage("use only one of --if-absent and --if-version")
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
			err = a.edit(cmd.Context(), args[0], e, place.Way{MakeDir: true})
			if kind == "" && errors.Is(err, pantry.ErrWrongKind) && !errors.As(err, new(*entry.DeclaredError)) {
				return kindError{err}
			}
			return err
		},
	}
	cmd.Flags().StringVar(&kind, "kind", "", "store it as `KIND`: bool, int, float, text, bytes, time, list, map")
	cmd.Flags().Int64Var(&ifVersion, "if-version", 0, "only if the entry is at version `N`; 0 means absent")
	cmd.Flags().BoolVar(&ifAbsent, "if-absent", false, "only if nothing is stored")
	return a.withJSON(a.withForce(cmd))
}

// typed returns the VALUE argument, or standard input for "-", without one newline at its end.
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
