package main

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/cli/term"
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

// firstGroup is what the commands call the group of --endpoints.
const firstGroup = "first"

func (a *app) move() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "move BOARD GROUP",
		Short: "Move a board to another group of etcd nodes, while servers go on",
		Long: `move puts the board BOARD into the group GROUP, which --group names; "first" is the
group of --endpoints. The board's history, links and marks stay the same. Servers go on;
writes to this board wait while it is copied. If move is interrupted, run it again.`,
		Example: `  smallpantry-etcd move rowan-street east --endpoints 10.0.0.1:2379 --group east=10.0.1.1:2379`,
		Args:    exactly(2, "the board and the group"),
		RunE: func(cmd *cobra.Command, args []string) error {
			group := args[1]
			o, err := a.flags.options()
			if err != nil {
				return err
			}
			if group == firstGroup {
				group = ""
			} else if !slices.ContainsFunc(o.Groups, func(g etcd.Group) bool { return g.Name == group }) {
				return fmt.Errorf("%w: there is no --group called %q", serving.ErrUsage, group)
			}
			return a.store(cmd.Context(), func(s *etcd.Store) error {
				m, err := s.Move(cmd.Context(), args[0], group)
				if err != nil {
					return fmt.Errorf("move %s: %w", args[0], err)
				}
				fmt.Fprintf(a.stdout, "%s is in the group %s: version %d, %s\n", m.Board, args[1], m.Version, term.Size(m.Bytes))
				return nil
			})
		},
	}
	a.flags.add(cmd.Flags())
	return cmd
}
