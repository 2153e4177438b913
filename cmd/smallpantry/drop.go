package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

func (a *app) drop() *cobra.Command {
	var prefix string
	var forget, copies bool
	cmd := &cobra.Command{
		Use:   "drop PLACE NAME...",
		Short: "Remove entries, all or none",
		Long: `drop removes entries in one commit, which restore can undo. --prefix removes all
entries whose names begin with P. With --forget it also removes their names and old
values from the history and from the whole file, which can't be undone.`,
		Example: "  smallpantry drop garden/plotbook plot\n  smallpantry drop garden/plotbook gate-code --forget",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			names := args[1:]
			byPrefix := cmd.Flags().Changed("prefix")
			switch {
			case byPrefix && prefix == "":
				return usage("--prefix is empty, which means everything; use reset for that")
			case byPrefix && len(names) > 0:
				return usage("drop accepts names or --prefix, not both")
			case copies && !forget:
				return usage("--copies needs --forget")
			case !byPrefix && len(names) == 0:
				return usage("name the entries to drop: smallpantry drop %s NAME..., or --prefix P", place.Shown(args[0]))
			}
			if err := checkNames(names...); err != nil {
				return err
			}
			p, err := a.change(args[0], place.Way{Write: true})
			if err != nil {
				return err
			}
			defer p.Close()
			if byPrefix {
				l, err := p.List(cmd.Context(), prefix)
				if err != nil {
					return err
				}
				for _, e := range l.Entries {
					names = append(names, e.Name)
				}
				if len(names) == 0 {
					return nothingUnder(prefix+"…", p.Where(), "; nothing was removed")
				}
			}
			if forget {
				return a.forget(cmd.Context(), p, names, copies)
			}
			return a.dropNames(cmd.Context(), p, names)
		},
	}
	cmd.Flags().StringVar(&prefix, "prefix", "", "all entries whose names begin with `P`")
	cmd.Flags().BoolVar(&forget, "forget", false, "also erase their names and old values from the file")
	cmd.Flags().BoolVar(&copies, "copies", false, "with --forget: also remove the kept copies of damaged files")
	return a.withJSON(cmd)
}

func (a *app) dropNames(ctx context.Context, p place.Present, names []string) error {
	edits := make([]entry.Edit, len(names))
	for i, name := range names {
		edits[i] = entry.Edit{Name: name, Op: value.Op{Verb: value.Drop}}
	}
	done, err := p.Commit(ctx, edits)
	if errors.Is(err, pantry.ErrAbsent) {
		mean := ""
		if len(names) == 1 {
			mean = didYouMean(ctx, p, names[0])
		}
		return exitError{exitAbsent, fmt.Sprintf("%v; nothing was removed%s", err, mean)}
	}
	if err != nil {
		return err
	}
	return a.printGone(done.Version, names, "removed %s\n")
}

func (a *app) forget(ctx context.Context, p place.Present, names []string, copies bool) error {
	if copies && place.IsURL(p.Where()) {
		return usage("--copies needs a place on this device")
	}
	err := p.Forget(ctx, names)
	if err == nil && copies {
		var dir, name string
		if dir, name, err = place.Split(p.Where()); err == nil {
			_, err = pantry.Repair(dir, name, pantry.RemoveCopies())
		}
	}
	if errors.Is(err, pantry.ErrAbsent) {
		return exitError{exitAbsent, fmt.Sprintf("%v; nothing was removed", err)}
	}
	if err != nil {
		return err
	}
	l, err := p.List(ctx, "")
	if err != nil {
		return err
	}
	return a.printGone(l.Version, names, "removed %s and its history\n")
}

func (a *app) printGone(version int64, names []string, format string) error {
	if a.json {
		return a.printJSON(map[string]any{"version": version, "gone": names})
	}
	for _, name := range names {
		fmt.Fprintf(a.stdout, format, name)
	}
	return nil
}
