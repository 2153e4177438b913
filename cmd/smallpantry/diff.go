package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

func (a *app) diff() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "diff PLACE PLACE",
		Short: "Compare two moments, two devices, or a device and a board",
		Long: `diff tells what the second PLACE has more, has not, and has otherwise than the
first. PLACE@VERSION is a place as it was. The exit code is 1 when they differ.`,
		Example: "  smallpantry diff garden/plotbook@12 garden/plotbook\n  smallpantry diff garden/plotbook http://127.0.0.1:8437/b/rowan-street",
		Args:    exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			one, err := a.entries(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			two, err := a.entries(cmd.Context(), args[1])
			if err != nil {
				return err
			}
			d := compare(one, two)
			if a.json {
				err = a.printJSON(d.json())
			} else {
				d.print(a)
			}
			if err == nil && d.any() {
				return exitError{exitFailed, ""}
			}
			return err
		},
	}
	return a.withJSON(cmd)
}

// entries gives what a PLACE or PLACE@VERSION holds, by name.
func (a *app) entries(ctx context.Context, where string) ([]board.Entry, error) {
	l, err := a.listingOf(ctx, where)
	return l.Entries, err
}

// listingOf is entries with what else is known of the place.
func (a *app) listingOf(ctx context.Context, where string) (listing, error) {
	p, err := a.open(where, way{})
	if err != nil {
		return listing{}, err
	}
	defer p.Close()
	return p.list(ctx, "")
}

// A difference is what two lists of entries have not in common.
type difference struct {
	added, gone []board.Entry
	changed     []board.Change
}

func (d difference) any() bool { return len(d.added)+len(d.gone)+len(d.changed) > 0 }

// compare goes over two lists that are in the order of their names.
func compare(one, two []board.Entry) (d difference) {
	for len(one) > 0 || len(two) > 0 {
		switch {
		case len(two) == 0 || len(one) > 0 && one[0].Name < two[0].Name:
			d.gone, one = append(d.gone, one[0]), one[1:]
		case len(one) == 0 || two[0].Name < one[0].Name:
			d.added, two = append(d.added, two[0]), two[1:]
		default:
			if !value.Equal(one[0].Value, two[0].Value) {
				d.changed = append(d.changed, board.Change{Name: one[0].Name, Old: one[0].Value, New: two[0].Value})
			}
			one, two = one[1:], two[1:]
		}
	}
	return d
}

func (d difference) json() any {
	orEmpty := func(e []board.Entry) []board.Entry {
		if e == nil {
			return []board.Entry{}
		}
		return e
	}
	return struct {
		Added   []board.Entry `json:"added"`
		Gone    []board.Entry `json:"gone"`
		Changed []changeJSON  `json:"changed"`
	}{orEmpty(d.added), orEmpty(d.gone), changesJSON(d.changed)}
}

func (d difference) print(a *app) {
	if !d.any() {
		fmt.Fprintln(a.stdout, "no difference")
		return
	}
	t := a.table("", "name", "first", "second")
	t.flexible = []int{2, 3, 1}
	for _, e := range d.added {
		t.row("added", e.Name, "–", orDash(e.Value))
	}
	for _, e := range d.gone {
		t.row("gone", e.Name, orDash(e.Value), "–")
	}
	for _, c := range d.changed {
		t.row("changed", c.Name, orDash(c.Old)+kindIfOther(c.Old, c.New), orDash(c.New)+kindIfOther(c.New, c.Old))
	}
	t.print()
}

// withKind shows a value on a line by itself, with its kind where that differs.
func withKind(v, other value.Value) string { return brief(v) + kindIfOther(v, other) }

// kindIfOther names the kind of v where another value has another.
func kindIfOther(v, other value.Value) string {
	if v.IsZero() || other.IsZero() || other.Kind() == v.Kind() {
		return ""
	}
	return " (" + v.Kind().String() + ")"
}
