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
		Long: `import puts the boards in the directory DATA into etcd, with their history, their
tokens and their marks: no link changes, and each follower of a board goes on where he
was. The server on DATA must be stopped; DATA stays as it is. Copy DATA/admin-token
to where the new servers look for it.`,
	}, (*etcd.Store).Import)
}

func (a *app) exportData() *cobra.Command {
	return a.mover(&cobra.Command{
		Use:   "export DATA",
		Short: "Write the boards into a directory for smallpantry serve",
		Long: `export writes all boards into the directory DATA, which has none, with their history,
their tokens and their marks. All servers must be stopped; what lies in etcd stays.
Copy admin-token there too, and start smallpantry serve --data DATA.`,
	}, (*etcd.Store).Export)
}

// mover has a command move the boards of a directory, and say which.
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
