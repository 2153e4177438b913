package main

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/entry"
)

func (a *app) watch() *cobra.Command {
	var poll time.Duration
	cmd := &cobra.Command{
		Use:   "watch PLACE [NAME...]",
		Short: "Print the present values, then each change",
		Long: `watch prints the present values, one per line, and then a line for each change, until
it is interrupted. Without a NAME it watches the whole place. Changes in quick
succession can appear as one; the newest always appears. A board's server sends each
change at once; with --poll the command asks at intervals instead. It reports on
standard error when the server becomes unreachable and when it is back.`,
		Example: "  smallpantry watch http://127.0.0.1:8437/boards/rowan-street tank/litres gate/open",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			names := args[1:]
			if err := checkNames(names...); err != nil {
				return err
			}
			polls := cmd.Flags().Changed("poll")
			if polls && poll <= 0 {
				return usage("--poll is %v, and must be over 0", poll)
			}
			p, err := a.read(args[0], place.Way{Every: poll, Push: !polls})
			if err != nil {
				return err
			}
			defer p.Close()
			for e, err := range p.Watch(cmd.Context(), names) {
				if err != nil {
					return err
				}
				if err := a.printChange(e); err != nil {
					return err
				}
			}
			return nil
		},
	}
	cmd.Flags().DurationVar(&poll, "poll", 0, "look every so often, such as `5s`, and don't have changes pushed")
	return a.withJSON(cmd)
}

// printChange prints an entry, or a name that is absent.
func (a *app) printChange(e entry.Entry) error {
	gone := e.Value.IsZero()
	switch {
	case a.json && gone:
		return a.printJSON(map[string]any{"name": e.Name, "version": e.Version, "gone": true})
	case a.json:
		return a.printJSON(e)
	case gone:
		fmt.Fprintf(a.stdout, "%s  absent\n", e.Name)
		return nil
	}
	line := fmt.Sprintf("%s  %s  version %d", e.Name, term.Shown(e.Value), e.Version)
	if e.By != "" {
		line += "  by " + e.By
	}
	fmt.Fprintln(a.stdout, strings.Map(term.Printable, line))
	return nil
}
