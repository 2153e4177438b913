package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/value"
)

// An operation is a change that is one step wherever the place is.
type operation struct {
	op      string // add, raise, lower, append, remove
	operand value.Value
	start   value.Value // what an absent entry starts from, where no app has declared its default
	started bool        // start was asked for
	keep    int
	unique  bool
}

// apply gives the new value of an entry whose value is now, or that is absent.
func (o operation) apply(now value.Value) (value.Value, error) {
	if now.IsZero() {
		now = o.start
	}
	switch o.op {
	case "add":
		return value.Add(now, o.operand)
	case "raise":
		return value.Raise(now, o.operand)
	case "lower":
		return value.Lower(now, o.operand)
	case "append":
		return value.Append(now, o.keep, o.unique, o.operand)
	case "remove":
		return value.Remove(now, o.operand)
	}
	return now, fmt.Errorf("there is no operation %s", o.op)
}

// operate carries an operation out on the entry and prints what it holds then.
func (a *app) operate(cmd *cobra.Command, place, name string, o operation) error {
	if err := checkNames(name); err != nil {
		return err
	}
	p, err := a.open(place, way{create: true})
	if err != nil {
		return err
	}
	defer p.Close()
	e, err := p.operate(cmd.Context(), name, o)
	if err != nil {
		return err
	}
	return a.printEntry(e)
}

// numberArg reads an argument that must be a number.
func numberArg(what, typed string) (value.Value, error) {
	v, err := value.Infer(typed)
	if err != nil || !v.Kind().Number() {
		return v, usage("%s is %s, and must be a number such as 10 or -2.5", what, value.Quote(typed))
	}
	return v, nil
}

// keeping makes raise and lower.
func (a *app) keeping(op, short, long string) *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use:   op + " PLACE NAME N",
		Short: short,
		Long:  long,
		Args:  exactly(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberArg("N", args[2])
			if err != nil {
				return err
			}
			return a.operate(cmd, args[0], args[1], operation{op: op, operand: n, start: n})
		},
	})
}

// itemArg reads an item of a list as put reads a VALUE.
func itemArg(typed string) (value.Value, error) {
	v, err := value.Infer(typed)
	if err != nil {
		return v, usageError{err}
	}
	return v, nil
}
