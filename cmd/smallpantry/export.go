package main

import (
	"bytes"
	"fmt"

	"github.com/google/renameio/v2/maybe"
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/export"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
)

func (a *app) export() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use:   "export PLACE [FILE]",
		Short: "Write all entries to a file",
		Long: `export writes the entries of a PLACE or PLACE@VERSION to a FILE. Its extension
selects JSON, JSON Lines or CSV: .json, .jsonl, .csv. Without a FILE it prints JSON.
The file is written completely or not at all, and only you can read it. --json prints
its name and the number of entries.`,
		Example: "  smallpantry export garden/plotbook plotbook.csv",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 || len(args) == 2 {
				return nil
			}
			return exactly(2)(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			f := export.JSON
			if len(args) == 2 {
				var err error
				if f, err = formatOf(args[1]); err != nil {
					return err
				}
				if err := place.NotNamespace(args[1], "export to another file"); err != nil {
					return err
				}
			}
			l, err := a.listingOf(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return f.Encode(a.stdout, l)
			}
			var b bytes.Buffer
			if err := f.Encode(&b, l); err != nil {
				return err
			}
			if err := maybe.WriteFile(args[1], b.Bytes(), 0o600); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"file": args[1], "version": l.Version, "entries": len(l.Entries)})
			}
			fmt.Fprintf(a.stderr, "wrote %s to %s\n", term.Counted(len(l.Entries), "entry", "entries"), args[1])
			return nil
		},
	})
}
