package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/term"
	"github.com/small-pantry/pantry/server/etcd"
)

func (a *app) importData() *cobra.Command {
	return a.mover(&cobra.Command{
		Use:   "import DATA",
		Short: "Put the boards of smallpantry serve into etcd, with all that belongs to them",
		Long: `import puts the boards in the directory DATA into etcd, with their history, tokens and
marks. No link changes, and each client continues where it was. The server on DATA must
be stopped. DATA does not change. Copy DATA/admin-token to the new servers.`,
	}, (*etcd.Store).Import)
}

func (a *app) exportData() *cobra.Command {
	return a.mover(&cobra.Command{
		Use:   "export DATA",
		Short: "Write the boards into a directory for smallpantry serve",
		Long: `export writes all boards into the directory DATA, which must have none, with their
history, tokens and marks. All servers must be stopped. etcd keeps the boards. Copy
admin-token to DATA too, and start smallpantry serve --data DATA.`,
	}, (*etcd.Store).Export)
}

// mover makes a command that moves the boards of a directory and prints their names.
func (a *app) mover(cmd *cobra.Command, move func(s *etcd.Store, ctx context.Context, data string, each func(etcd.Moved)) error) *cobra.Command {
	cmd.Args = exactly(1, "the directory")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.store(cmd.Context(), func(s *etcd.Store) error {
			n := 0
			err := move(s, cmd.Context(), args[0], func(m etcd.Moved) {
				n++
				fmt.Fprintf(a.stdout, "%s: version %d, %s\n", m.Board, m.Version, term.Size(m.Bytes))
			})
			if err == nil {
				fmt.Fprintf(a.stdout, "moved %s, and the tokens\n", term.Counted(n, "board", "boards"))
			}
			return err
		})
	}
	a.flags.add(cmd.Flags())
	return cmd
}
