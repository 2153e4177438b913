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
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/scan"
)

// ownServer is the address of the server that serve starts by default.
const ownServer = "http://127.0.0.1:8437"

func (a *app) board() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "board",
		Short: "Boards of a server, and the links to them",
		Long: `board creates, shows and deletes boards, and makes and revokes their links. A link
includes a token, which decides what its holder can do: read; add (count and append,
not overwrite or remove); write; own. Creating and deleting boards needs the server's
admin token:

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

// admin returns a client with the admin token of a server.
func (a *app) admin(address string) (*board.Admin, error) {
	address, err := resolve(address)
	if err != nil {
		return nil, err
	}
	return board.NewAdmin(address, board.ClientName("smallpantry"), board.Patience(place.Patience), board.OnProblem(a.meet))
}

// joined joins a board to query it.
func (a *app) joined(where string) (*board.Board, error) {
	where, err := resolve(where)
	if err != nil {
		return nil, err
	}
	if !place.IsBoard(where) {
		return nil, usage("%s is not a board: write http://HOST:PORT/boards/BOARD, or its link", scan.Quote(place.Shown(where)))
	}
	return board.Join(where, board.ClientName("smallpantry"), board.Patience(place.Patience), board.OnProblem(a.meet))
}

func (a *app) boardCreate() *cobra.Command {
	var m may
	var server, file string
	var qr bool
	cmd := &cobra.Command{
		Use:   "create NAME...",
		Short: "Create boards and print a link to each",
		Long: `create creates boards on a server and prints a link to each. The link owns the board
unless --may sets less. With --sheet it writes a page to print instead, with a card
and a QR code for each link. It needs the server's admin token.`,
		Example: "  smallpantry board create rowan-street\n  smallpantry board create oak elm ash --sheet plots.html --server https://pantry.example",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			invitation, err := m.invitation(time.Now())
			if err != nil {
				return err
			}
			for i, name := range args { // before the first is created
				if err := journal.CheckName(name); err != nil {
					return usageError{err}
				}
				if slices.Contains(args[:i], name) {
					return usage("%s is given twice", name)
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
			if told := a.tellLinks(links, file, qr); err == nil { // also those created before one failed
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

// create creates a board and a link to it.
func (a *app) create(ctx context.Context, admin *board.Admin, name string, i board.Invitation) (t board.Token, err error) {
	made, err := admin.Create(ctx, name)
	if err != nil {
		return t, err
	}
	if !made {
		return t, exitError{exitRefused, fmt.Sprintf("the board %s exists already; board invite makes another link to it", name)}
	}
	b, err := admin.Board(name)
	if err != nil {
		return t, err
	}
	defer b.Close()
	facts, err := b.Facts(ctx)
	if err == nil && facts.Label == "" { // in development mode there are no tokens
		return board.Token{May: facts.May, Link: admin.Link(name)}, nil
	}
	if err == nil {
		t, err = b.Invite(ctx, i)
	}
	return t, err
}

func (a *app) boardList() *cobra.Command {
	cmd := &cobra.Command{
		Use: "list [SERVER]", Example: `  smallpantry board list
  smallpantry board list https://pantry.example`, Short: "List the boards of a server", Args: atMost(1),
		Long: `list lists the boards of a server, whose address is http://HOST:PORT. Without an
address it uses the server that serve runs on this machine. It needs the server's
admin token.`,
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
		Use: "show PLACE", Example: `  smallpantry board show @garden`, Short: "Show a board's sizes, limits, and what you may do there", Args: exactly(1),
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
		fmt.Fprintf(a.stdout, "nothing is stored there yet; the first value creates the board\n")
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

// percent returns how much of a limit is used, such as 12 %.
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
		Use: "delete PLACE --yes", Example: `  smallpantry board delete http://127.0.0.1:8437/boards/rowan-street --yes`, Short: "Delete a board, its entries, its history and its links", Args: exactly(1),
		Long: `delete removes a board for good: its entries, its history, and every link to it.
To keep a copy, use export first. It needs the server's admin token.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			where, err := resolve(args[0])
			if err != nil {
				return err
			}
			if !place.IsBoard(where) {
				return usage("%s is not a board: write http://HOST:PORT/boards/BOARD", scan.Quote(place.Shown(where)))
			}
			if !yes {
				return usage("delete removes %s for good; add --yes to confirm", place.Shown(where))
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
				fmt.Fprintf(a.stdout, "%s and every link to it are deleted\n", place.Shown(where))
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "it is meant")
	return cmd
}
