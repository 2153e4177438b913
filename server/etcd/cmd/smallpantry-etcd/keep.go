package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/server/etcd"
)

func (a *app) backup() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "backup FILE",
		Short: "Write all that lies in etcd into a file, while servers go on",
		Long: `backup writes all boards, their history and their tokens into FILE, each board as it
is at one moment. FILE is replaced when all of it is written, and not before.`,
		Args: exactly(1, "the file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.store(cmd.Context(), func(s *etcd.Store) error {
				file, err := renameio.NewPendingFile(args[0], renameio.WithPermissions(0o600))
				if err != nil {
					return err
				}
				defer file.Cleanup()
				begun := time.Now()
				keys, err := s.Backup(cmd.Context(), file)
				var size int64
				if err == nil {
					size, err = file.Seek(0, io.SeekCurrent)
				}
				if err == nil {
					err = file.CloseAtomicallyReplace()
				}
				if err == nil {
					err = journal.SyncDir(journal.OS, filepath.Dir(args[0]))
				}
				if err == nil {
					fmt.Fprintf(a.stdout, "%s has %d keys in %s, as of %s\n", args[0], keys, term.Size(size), begun.Format(time.RFC3339))
				}
				return err
			})
		},
	}
	a.flags.add(cmd.Flags())
	return cmd
}

func (a *app) restore() *cobra.Command {
	var replace bool
	cmd := &cobra.Command{
		Use:   "restore FILE",
		Short: "Put a backup into etcd; servers must be stopped",
		Long: `restore puts what backup wrote into etcd. All servers must be stopped. Each board is
known as another than before: each follower reads all of it again, so that
nothing of after the backup lives on anywhere.`,
		Args: exactly(1, "the file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := a.flags.options()
			if err != nil {
				return err
			}
			file, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer file.Close()
			if _, err = etcd.CheckBackup(file); err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if _, err = file.Seek(0, io.SeekStart); err != nil {
				return err
			}
			keys, err := etcd.Restore(cmd.Context(), o, file, replace)
			if err == nil {
				fmt.Fprintf(a.stdout, "restored %d keys from %s; start the servers now\n", keys, args[0])
			}
			return err
		},
	}
	a.flags.add(cmd.Flags())
	cmd.Flags().BoolVar(&replace, "replace", false, "in place of what lies there, which is lost")
	return cmd
}

func (a *app) check() *cobra.Command {
	var repair bool
	cmd := &cobra.Command{
		Use:   "check",
		Short: "Read all that lies in etcd, and say what can't be read",
		Long: `check reads every board as a server does when it opens it, and says which can't be
read. It also finds boards without a record of their group, and records without a
board, which an interrupted creation or removal can leave. --repair puts these in order.`,
		Args: exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.store(cmd.Context(), func(s *etcd.Store) error {
				var all []etcd.BoardCheck
				if err := s.Check(cmd.Context(), func(c etcd.BoardCheck) { all = append(all, c) }); err != nil {
					return err
				}
				slices.SortFunc(all, func(x, y etcd.BoardCheck) int { return strings.Compare(x.Board, y.Board) })
				out := term.Out{Writer: a.stdout}.Table("board", "version", "size", "batches", "checkpoints")
				bad := 0
				for _, c := range all {
					out.Row(c.Board, strconv.FormatInt(c.Version, 10), term.Size(c.Bytes), strconv.Itoa(c.Batches), strconv.Itoa(c.Checkpoints))
				}
				out.Print()
				for _, c := range all {
					if c.Err != nil {
						bad++
						fmt.Fprintf(a.stdout, "%s can't be read: %v\n", c.Board, c.Err)
					}
				}
				left, err := a.strays(cmd.Context(), s, repair)
				switch {
				case err != nil:
					return err
				case bad > 0:
					return fmt.Errorf("%d of %d boards can't be read: restore a backup", bad, len(all))
				case left > 0:
					return fmt.Errorf("%d boards and records don't go together: run check --repair", left)
				}
				fmt.Fprintln(a.stdout, "all of it can be read")
				return nil
			})
		},
	}
	a.flags.add(cmd.Flags())
	cmd.Flags().BoolVar(&repair, "repair", false, "put in order what an interrupted creation or removal left")
	return cmd
}

// underWay is how long a creation or a removal can take.
const underWay = 6 * time.Second

// strays names what interrupted creations and removals left, and repairs it. It returns what is left.
func (a *app) strays(ctx context.Context, s *etcd.Store, repair bool) (left int, err error) {
	first, err := s.Strays(ctx)
	if err != nil || len(first) == 0 {
		return 0, err
	}
	select { // what is under way is done then
	case <-time.After(underWay):
	case <-ctx.Done():
		return 0, ctx.Err()
	}
	second, err := s.Strays(ctx)
	if err != nil {
		return 0, err
	}
	for _, one := range second {
		if !slices.Contains(first, one) {
			continue
		}
		what := "the record of the board " + one.Board + " is of no board"
		if one.Head {
			what = "the board " + one.Board + " has no record of its group, so no server finds it"
		}
		if !repair {
			left++
			fmt.Fprintln(a.stdout, what)
			continue
		}
		if err := s.Mend(ctx, one); err != nil {
			return left, err
		}
		fmt.Fprintln(a.stdout, what+": repaired")
	}
	return left, nil
}
