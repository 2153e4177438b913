package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
)

// way returns w with problems printed on standard error.
func (a *app) way(w place.Way) place.Way {
	w.Tell = func(where string, p pantry.Problem) {
		a.problems = append(a.problems, p)
		if a.quiet {
			return
		}
		fmt.Fprintf(a.stderr, "smallpantry: %v\n", p)
		if errors.Is(p.Err, pantry.ErrDamaged) && !w.Write && !w.Create {
			a.damaged = true
			fmt.Fprintf(a.stderr, "  smallpantry repair %s saves what is intact.\n", where)
		}
	}
	w.Say = func(sentence string) { fmt.Fprintf(a.stderr, "smallpantry: %s\n", sentence) }
	w.Made = func(dir string) { fmt.Fprintf(a.stderr, "smallpantry: made the directory %s\n", dir) }
	return w
}

// meet prints a problem of a board.
func (a *app) meet(p pantry.Problem) { a.way(place.Way{Write: true}).Tell(p.Place, p) }

// read opens PLACE or PLACE@WHEN for reading.
func (a *app) read(where string, w place.Way) (place.Place, error) {
	bare, when, err := place.SplitWhen(where, time.Now())
	if err != nil {
		return nil, err
	}
	if bare, err = resolve(bare); err != nil {
		return nil, err
	}
	if when.IsNow() {
		return place.Open(bare, a.way(w))
	}
	return place.OpenAt(bare, when, a.way(w))
}

// change opens a PLACE for changes.
func (a *app) change(where string, w place.Way) (place.Present, error) {
	bare, when, err := place.SplitWhen(where, time.Now())
	if err != nil {
		return nil, err
	}
	if !when.IsNow() {
		return nil, usage("%q is a past state, which can't be changed; write %s, or use restore", place.Shown(where), place.Shown(bare))
	}
	if bare, err = resolve(bare); err != nil {
		return nil, err
	}
	return place.Open(bare, a.way(w))
}

// edit applies an edit to one entry and prints its new value. A missing place is created.
func (a *app) edit(ctx context.Context, where string, e entry.Edit, w place.Way) error {
	if err := checkNames(e.Name); err != nil {
		return err
	}
	w.Create = true
	p, err := a.change(where, w)
	if err != nil {
		return err
	}
	defer p.Close()
	mean := ""
	if !place.IsURL(p.Where()) { // on a device the lookup is cheap
		if _, found, err := p.Get(ctx, e.Name); err == nil && !found {
			mean = didYouMean(ctx, p, e.Name)
		}
	}
	e.Force = a.force
	done, err := p.Commit(ctx, []entry.Edit{e})
	if errors.Is(err, pantry.ErrAbsent) {
		err = fmt.Errorf("%w%s", err, mean)
	}
	if err != nil {
		return err
	}
	if mean != "" {
		fmt.Fprintf(a.stderr, "smallpantry: %s is new in %s%s\n", e.Name, p.Where(), mean)
	}
	if taken := done.Results[0].Taken; !taken.IsZero() && !a.json {
		fmt.Fprintln(a.stdout, taken)
		return nil
	}
	return a.printEntry(done.Entries[0])
}

// printEntry prints the result of a write: the new value, or the entry as JSON.
func (a *app) printEntry(e entry.Entry) error {
	if a.json {
		return a.printJSON(e)
	}
	fmt.Fprintln(a.stdout, e.Value)
	return nil
}

// checkNames returns an error for a name that no entry can have.
func checkNames(names ...string) error {
	for _, name := range names {
		if err := pantry.CheckName(name); err != nil {
			return usageError{err}
		}
	}
	return nil
}

func nothingUnder(name, where, more string) error {
	return exitError{exitAbsent, fmt.Sprintf("nothing is stored under %s in %s%s", name, place.Shown(where), more)}
}

// didYouMean suggests stored or declared names that are similar to name.
func didYouMean(ctx context.Context, p place.Place, name string) string {
	l, err := p.List(ctx, "")
	if err != nil {
		return ""
	}
	var names []string
	for _, e := range l.Entries {
		names = append(names, e.Name)
	}
	for _, k := range l.Unwritten("") {
		names = append(names, k.Name)
	}
	return place.DidYouMean(name, names)
}
