package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/place"
)

// way is how a place is opened by this call: problems are named on standard error.
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

// meet names what a board met.
func (a *app) meet(p pantry.Problem) { a.way(place.Way{Write: true}).Tell(p.Place, p) }

// read opens a PLACE, or a PLACE@WHEN, to read.
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

// change opens a PLACE to change it.
func (a *app) change(where string, w place.Way) (place.Present, error) {
	bare, when, err := place.SplitWhen(where, time.Now())
	if err != nil {
		return nil, err
	}
	if !when.IsNow() {
		return nil, usage("%q is how the place was, which can't be changed; write %s, or see restore", place.Shown(where), place.Shown(bare))
	}
	if bare, err = resolve(bare); err != nil {
		return nil, err
	}
	return place.Open(bare, a.way(w))
}

// edit makes an edit of one entry, in a place that is made where it is
// missing, and prints what the entry holds then.
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
	if !place.IsURL(p.Where()) { // where it costs nothing to look
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

// printEntry answers a write: the new value, or the entry.
func (a *app) printEntry(e entry.Entry) error {
	if a.json {
		return a.printJSON(e)
	}
	fmt.Fprintln(a.stdout, e.Value)
	return nil
}

// checkNames refuses names that no entry can have, before anything is done.
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

// didYouMean names what is stored or declared in a place and nearly matches a name.
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
