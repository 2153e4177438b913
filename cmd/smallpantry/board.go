package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/serving"
	"github.com/small-pantry/pantry/internal/term"
)

// ownServer is the server that serve runs where it is told nothing else.
const ownServer = "http://127.0.0.1:8437"

func (a *app) board() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "board",
		Short: "Boards of a server, and the links to them",
		Long: `board makes, shows and deletes boards, and makes and revokes the links by which
others reach them. A link holds a token, which says what its holder may: read; add
(count and append, not overwrite or remove); write; own. Making and deleting boards
takes the server's admin token:

  SMALLPANTRY_TOKEN=$(cat pantry-data/admin-token) smallpantry board create rowan-street`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("there is no command board %s; board --help lists them", scan.Quote(args[0]))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.boardCreate(), a.boardList(), a.boardShow(), a.boardDelete(), a.boardInvite(), a.boardTokens(), a.boardRevoke())
	return cmd
}

// admin gives who may do everything on a server.
func (a *app) admin(address string) (*board.Admin, error) {
	address, err := resolve(address)
	if err != nil {
		return nil, err
	}
	return board.NewAdmin(address, board.ClientName("smallpantry"), board.Patience(place.Patience), board.OnProblem(a.meet))
}

// joined opens a board, to ask about it.
func (a *app) joined(where string) (*board.Board, error) {
	where, err := resolve(where)
	if err != nil {
		return nil, err
	}
	if !place.IsBoard(where) {
		return nil, usage("%s is no board: write http://HOST:PORT/boards/BOARD, or its link", scan.Quote(place.Shown(where)))
	}
	return board.Join(where, board.ClientName("smallpantry"), board.Patience(place.Patience), board.OnProblem(a.meet))
}

func (a *app) boardCreate() *cobra.Command {
	var m may
	var server, file string
	var qr bool
	cmd := &cobra.Command{
		Use:   "create NAME...",
		Short: "Make boards, and print a link to each",
		Long: `create makes boards on a server, and prints a link to each, which may own it
unless --may says less. --sheet writes a page to print instead, with a card and a QR
code for each link. It takes the server's admin token.`,
		Example: "  smallpantry board create rowan-street\n  smallpantry board create oak elm ash --sheet class.html --server https://pantry.example",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			invitation, err := m.invitation(time.Now())
			if err != nil {
				return err
			}
			for i, name := range args { // before one is made
				if err := journal.CheckName(name); err != nil {
					return usageError{err}
				}
				if slices.Contains(args[:i], name) {
					return usage("%s comes twice", name)
				}
			}
			admin, err := a.admin(server)
			if err != nil {
				return err
			}
			var links []sharedLink
			for _, name := range args {
				var t board.Token
				if t, err = a.create(cmd.Context(), admin, name, invitation); err != nil {
					break
				}
				links = append(links, sharedLink{name, t})
			}
			if told := a.tellLinks(links, file, qr); err == nil { // of those too that were made before one was refused
				err = told
			}
			return err
		},
	}
	m.add(cmd, "own")
	cmd.Flags().StringVar(&server, "server", ownServer, "on the server at `ADDRESS`")
	cmd.Flags().StringVar(&file, "sheet", "", "write a page to print to `FILE`.html")
	cmd.Flags().BoolVar(&qr, "qr", false, "draw each link as a QR code too")
	return a.withJSON(cmd)
}

// create makes a board and a link to it.
func (a *app) create(ctx context.Context, admin *board.Admin, name string, i board.Invitation) (t board.Token, err error) {
	made, err := admin.Create(ctx, name)
	if err != nil {
		return t, err
	}
	if !made {
		return t, exitError{exitRefused, fmt.Sprintf("there is a board %s already; board invite makes a further link to it", name)}
	}
	b, err := admin.Board(name)
	if err != nil {
		return t, err
	}
	defer b.Close()
	facts, err := b.Facts(ctx)
	if err == nil && facts.Label == "" { // there are no tokens in development mode
		return board.Token{May: facts.May, Link: admin.Link(name)}, nil
	}
	if err == nil {
		t, err = b.Invite(ctx, i)
	}
	return t, err
}

func (a *app) boardList() *cobra.Command {
	cmd := &cobra.Command{
		Use: "list [SERVER]", Short: "List the boards of a server", Args: atMost(1),
		Long: `list lists the boards of a server, whose address is http://HOST:PORT; without one
that of the server that serve runs on this machine. It takes the server's admin token.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.listBoards(cmd.Context(), append(args, ownServer)[0])
		},
	}
	return a.withJSON(cmd)
}

func (a *app) listBoards(ctx context.Context, address string) error {
	admin, err := a.admin(address)
	if err != nil {
		return err
	}
	list, err := admin.List(ctx)
	if err != nil {
		return err
	}
	shown := place.Shown(address)
	if a.json {
		return a.printJSON(map[string]any{"server": shown, "boards": append([]board.Summary{}, list...)})
	}
	fmt.Fprintf(a.stdout, "%s\n%s\n\n", shown, term.Counted(len(list), "board", "boards"))
	t := a.out().Table("board", "version", "bytes")
	for _, b := range list {
		t.Row(b.Board, fmt.Sprint(b.Version), fmt.Sprint(b.Bytes))
	}
	t.Print()
	return nil
}

func (a *app) boardShow() *cobra.Command {
	cmd := &cobra.Command{
		Use: "show PLACE", Short: "Tell how a board is: how much, how near its limits, what you may", Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := a.joined(args[0])
			if err != nil {
				return err
			}
			defer b.Close()
			f, err := b.Facts(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(f)
			}
			where, err := resolve(args[0])
			if err != nil {
				return err
			}
			a.printFacts(place.Shown(where), f)
			return nil
		},
	}
	return a.withJSON(cmd)
}

func (a *app) printFacts(where string, f *board.Facts) {
	fmt.Fprintf(a.stdout, "%s\n", where)
	if !f.Exists {
		fmt.Fprintf(a.stdout, "nothing is stored there yet; the first value makes it\n")
	}
	right := access.Nothing
	if r, err := access.ParseRight(f.May); err == nil {
		right = r
	}
	you := "you " + right.Says()
	if f.Prefix != "" {
		you += ", of the names that begin with " + f.Prefix
	}
	if f.Label != "" {
		you += "; your changes are by " + f.Label
	}
	fmt.Fprintf(a.stdout, "%s\n%s\n\n", you, serving.Encrypted(where))
	t := a.out().Table("", "now", "at most", "")
	t.Row("version", fmt.Sprint(f.Version), "", "")
	if f.Prefix == "" {
		t.Row("entries", fmt.Sprint(f.Entries), fmt.Sprint(f.MaxNames), percent(f.Entries, f.MaxNames))
		t.Row("size", term.Size(f.Bytes), term.Size(f.MaxBytes), percent(f.Bytes, f.MaxBytes))
		closed := ""
		if f.Closed {
			closed = "closed: no other names can be written"
		}
		t.Row("declared keys", fmt.Sprint(f.Keys), "", closed)
		here := ""
		if f.Servers > 1 {
			here = fmt.Sprintf(", on this server, one of %d", f.Servers)
		}
		t.Row("watching now", fmt.Sprint(f.Watchers), fmt.Sprint(f.MaxWatchers), percent(f.Watchers, f.MaxWatchers)+here)
		t.Row("requests a minute", fmt.Sprint(f.Requests), fmt.Sprint(60*f.MaxRate), percent(f.Requests, 60*f.MaxRate)+here)
		t.Row("room for phones", fmt.Sprint(f.Room), "", "that ask every 2 seconds, beside those of now")
	}
	t.Row("a value", "", term.Size(f.MaxValue), "")
	t.Print()
}

// percent tells how much of a limit is used.
func percent(now, most int64) string {
	switch {
	case most == 0:
		return ""
	case now > 0 && now*100 < most:
		return "under 1 %"
	}
	return fmt.Sprintf("%d %%", now*100/most)
}

func (a *app) boardDelete() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "delete PLACE --yes", Short: "Delete a board with all that is in it, and every link to it", Args: exactly(1),
		Long: `delete removes a board for good: its entries, its history, and every link to it.
export keeps a copy. It takes the server's admin token.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			where, err := resolve(args[0])
			if err != nil {
				return err
			}
			if !place.IsBoard(where) {
				return usage("%s is no board: write http://HOST:PORT/boards/BOARD", scan.Quote(place.Shown(where)))
			}
			if !yes {
				return usage("delete removes %s for good; say --yes if that is meant", place.Shown(where))
			}
			server, name, _ := strings.Cut(place.Shown(where), "/boards/")
			_, token, has := strings.Cut(where, "#")
			if has {
				server += "#" + token
			}
			admin, err := a.admin(server)
			if err == nil {
				err = admin.Delete(cmd.Context(), name)
			}
			if err == nil {
				fmt.Fprintf(a.stdout, "%s is deleted, and every link to it\n", place.Shown(where))
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "it is meant")
	return cmd
}
