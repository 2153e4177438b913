package main

import (
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// operations returns the commands that apply one operation to an entry: add, raise, lower, append,
// remove and take.
func (a *app) operations() []*cobra.Command {
	add := value.Op{Verb: value.Add}
	var start string
	addition := a.operation(&add, "PLACE NAME N", "Add to a number; no addition is lost",
		`add adds N, which may be negative, to a number in one step, and prints the new
value. An absent entry starts from --start, else from the default that an app
has declared, else from 0.`,
		"smallpantry add http://127.0.0.1:8437/boards/rowan-street tank/litres -10")
	addition.Flags().StringVar(&start, "start", "", "what an absent entry starts from (`N`)")
	addition.PreRunE = func(cmd *cobra.Command, _ []string) (err error) {
		if cmd.Flags().Changed("start") {
			add.Start, err = numberArg("--start", start)
		}
		return err
	}
	appended := value.Op{Verb: value.Append}
	appending := a.operation(&appended, "PLACE NAME ITEM", "Add an item at the end of a list",
		`append adds an item, which is read as put reads a VALUE, at the end of a list in
one step, and prints the list. An absent entry becomes a list.`,
		"smallpantry append garden/plotbook hose/queue C4 --unique")
	appending.Flags().IntVar(&appended.Keep, "keep", 0, "keep the newest `N` items only; 0 keeps all")
	appending.Flags().BoolVar(&appended.Unique, "unique", false, "not if the item is in the list already")
	appending.PreRunE = func(*cobra.Command, []string) error {
		if appended.Keep < 0 {
			return usage("--keep is %d, and must be at least 0", appended.Keep)
		}
		return nil
	}
	removed := value.Op{Verb: value.Remove}
	removing := a.operation(&removed, "PLACE NAME ITEM", "Take the first item that is equal out of a list",
		`remove takes the first item that equals ITEM out of a list in one step, and
prints the list; --all takes every one that does. To remove a whole entry there
is drop.`,
		"smallpantry remove garden/plotbook hose/queue C4")
	removing.Flags().BoolVar(&removed.All, "all", false, "every item that is equal")
	taken := value.Op{Verb: value.Take}
	var newest bool
	taking := a.operation(&taken, "PLACE NAME", "Take the first item out of a list, and print it",
		`take takes the first item out of a list in one step, so that no one else gets
it, and prints it; --last takes the last. From a list that is empty or absent
there is nothing to take: the exit code is 3.`,
		"smallpantry take http://127.0.0.1:8437/boards/rowan-street hose/queue")
	taking.Flags().BoolVar(&newest, "last", false, "the last item")
	taking.PreRun = func(*cobra.Command, []string) {
		if newest {
			taken.At = -1
		}
	}
	return []*cobra.Command{
		addition,
		a.operation(&value.Op{Verb: value.Raise}, "PLACE NAME N", "Make a number larger, if N is",
			"raise makes a number N where it is smaller, in one step, and prints what is there\nthen. An absent entry becomes N.", "smallpantry raise @garden harvest/heaviest-marrow-g 4310"),
		a.operation(&value.Op{Verb: value.Lower}, "PLACE NAME N", "Make a number smaller, if N is",
			"lower makes a number N where it is larger, in one step, and prints what is there\nthen. An absent entry becomes N.", "smallpantry lower @garden tank/lowest 310"),
		appending, removing, taking,
	}
}

// operation returns the command for op. The operand, if it has one, is the third argument.
func (a *app) operation(op *value.Op, takes, short, long, example string) *cobra.Command {
	if example != "" {
		example = "  " + example
	}
	words := 3
	if op.Verb == value.Take {
		words = 2
	}
	return a.withJSON(a.withForce(&cobra.Command{
		Use: op.Verb.String() + " " + takes, Short: short, Long: long, Example: example, Args: exactly(words),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			switch op.Verb {
			case value.Take:
			case value.Append, value.Remove:
				if op.Operand, err = value.Infer(args[2]); err != nil {
					return usageError{err}
				}
			default:
				if op.Operand, err = numberArg("N", args[2]); err != nil {
					return err
				}
			}
			return a.edit(cmd.Context(), args[0], entry.Edit{Name: args[1], Op: *op}, place.Way{})
		},
	}))
}

// numberArg parses an argument that must be a number.
func numberArg(what, typed string) (value.Value, error) {
	v, err := value.Infer(typed)
	if err != nil || !v.Kind().Number() {
		return v, usage("%s is %s, and must be a number such as 10 or -2.5", what, scan.Quote(typed))
	}
	return v, nil
}
