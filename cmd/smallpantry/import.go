package main

import (
	"github.com/spf13/cobra"
)

func (a *app) importFile() *cobra.Command {
	var replace, dry bool
	cmd := &cobra.Command{
		Use:   "import PLACE FILE",
		Short: "Store the entries of a file, all or none",
		Long: `import stores the entries of a FILE that export wrote, or that looks like one:
.json, .jsonl or .csv. All of it is one commit; when anything in the file is
wrong, nothing is stored. --replace also removes what is not in the file;
--dry-run only says what would change.`,
		Example: "  smallpantry import garden/plotbook plotbook.csv --dry-run",
		Args:    exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			wanted, err := a.entriesOf(args[1])
			if err != nil {
				return err
			}
			return a.store(cmd.Context(), args[0], wanted, replace, dry)
		},
	}
	cmd.Flags().BoolVar(&replace, "replace", false, "remove what is not in the file")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "store nothing; say what would change")
	return a.withJSON(cmd)
}
