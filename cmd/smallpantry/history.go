package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
)

func (a *app) history() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use:   "history PLACE [NAME...]",
		Short: "Show the newest commits: old value, new value, when, by whom",
		Long: `history prints the newest commits of a place, newest first, with the old and new
value of each change. With NAMEs it prints only commits that changed one of them. Use
a version from it as PLACE@VERSION with compare and restore. On a board, older commits
are merged into ranges such as 12–21, which it prints with their net change.`,
		Example: "  smallpantry history garden/plotbook reminder-hour -n 5",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkNames(args[1:]...); err != nil {
				return err
			}
			if limit < 1 {
				return usage("-n is %d, and must be at least 1", limit)
			}
			p, err := a.read(args[0], place.Way{})
			if err != nil {
				return err
			}
			defer p.Close()
			commits, err := p.History(cmd.Context(), limit, args[1:])
			if err != nil {
				return err
			}
			if a.json {
				for _, c := range commits {
					if err := a.printJSON(c); err != nil {
						return err
					}
				}
				return nil
			}
			t := a.out().Table("version", "age", "name", "old", "", "new", "by")
			t.Flexible = []int{3, 5, 2}
			for _, c := range commits {
				version, when, by := fmt.Sprint(c.Version), term.Age(c.Time), c.By
				if c.Over > 1 { // a range of merged commits
					version = fmt.Sprintf("%d–%d", c.Version-c.Over+1, c.Version)
				}
				for _, ch := range c.Changes {
					t.Row(version, when, ch.Name, term.Shown(ch.Old), "→", term.Shown(ch.New), by)
					version, when, by = "", "", ""
				}
			}
			t.Print()
			return nil
		},
	}
	cmd.Flags().IntVarP(&limit, "number", "n", 20, "at most `N` commits")
	return a.withJSON(cmd)
}
