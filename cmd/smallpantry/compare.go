package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/entry"
)

func (a *app) compare() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "compare PLACE PLACE",
		Short: "Compare two points in time, two devices, or a device and a board",
		Long: `compare prints what the second PLACE has in addition, lacks, or has with another
value. PLACE@VERSION is a place at that version. The exit code is 1 if they differ.`,
		Example: "  smallpantry compare garden/plotbook@12 garden/plotbook\n  smallpantry compare garden/plotbook http://127.0.0.1:8437/boards/rowan-street",
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
			d := place.Compare(one, two)
			if a.json {
				err = a.printJSON(d)
			} else {
				a.printDifference(d)
			}
			if err == nil && d.Any() {
				return exitError{exitFailed, ""}
			}
			return err
		},
	}
	return a.withJSON(cmd)
}

// entries returns the entries of PLACE or PLACE@VERSION by name.
func (a *app) entries(ctx context.Context, where string) ([]entry.Entry, error) {
	l, err := a.listingOf(ctx, where)
	return l.Entries, err
}

// listingOf returns the entries of a place, its declared keys, and its versions.
func (a *app) listingOf(ctx context.Context, where string) (place.Listing, error) {
	p, err := a.read(where, place.Way{})
	if err != nil {
		return place.Listing{}, err
	}
	defer p.Close()
	return p.List(ctx, "")
}

// printDifference prints one line per difference.
func (a *app) printDifference(d place.Difference) {
	if !d.Any() {
		fmt.Fprintln(a.stdout, "no difference")
		return
	}
	t := a.out().Table("", "name", "first", "second")
	t.Flexible = []int{2, 3, 1}
	for _, e := range d.Added {
		t.Row("added", e.Name, "–", term.Shown(e.Value))
	}
	for _, e := range d.Gone {
		t.Row("gone", e.Name, term.Shown(e.Value), "–")
	}
	for _, c := range d.Changed {
		t.Row("changed", c.Name, term.Shown(c.Old)+term.KindIfOther(c.Old, c.New), term.Shown(c.New)+term.KindIfOther(c.New, c.Old))
	}
	t.Print()
}
