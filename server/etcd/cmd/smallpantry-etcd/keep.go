package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/term"
	"github.com/small-pantry/pantry/server/etcd"
)

func (a *app) backup() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "backup FILE",
		Short: "Write all that lies in etcd into a file, while servers go on",
		Long: `backup writes all boards, their history and their tokens into FILE, as they are at
one moment. FILE is replaced when all of it is written, and not before.`,
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
	cmd := &cobra.Command{
		Use:   "check",
		Short: "Read all that lies in etcd, and say what can't be read",
		Args:  exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.store(cmd.Context(), func(s *etcd.Store) error {
				out := term.Out{Writer: a.stdout}.Table("board", "version", "size", "batches", "checkpoints")
				var bad []etcd.BoardCheck
				boards := 0
				err := s.Check(cmd.Context(), func(c etcd.BoardCheck) {
					boards++
					out.Row(c.Board, strconv.FormatInt(c.Version, 10), term.Size(c.Bytes), strconv.Itoa(c.Batches), strconv.Itoa(c.Checkpoints))
					if c.Err != nil {
						bad = append(bad, c)
					}
				})
				out.Print()
				for _, c := range bad {
					fmt.Fprintf(a.stdout, "%s can't be read: %v\n", c.Board, c.Err)
				}
				switch {
				case err != nil:
					return err
				case len(bad) > 0:
					return fmt.Errorf("%d of %d boards can't be read: restore a backup", len(bad), boards)
				}
				fmt.Fprintln(a.stdout, "all of it can be read")
				return nil
			})
		},
	}
	a.flags.add(cmd.Flags())
	return cmd
}
