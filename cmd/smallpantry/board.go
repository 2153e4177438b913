package main

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2/maybe"
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/qrcode"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/serving"
	"github.com/small-pantry/pantry/internal/sheet"
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

// may adds the flags that say what a link may.
type may struct{ right, label, prefix, until string }

func (m *may) add(cmd *cobra.Command, right string) {
	cmd.Flags().StringVar(&m.right, "may", right, "what its holder may: read, add, write or own")
	cmd.Flags().StringVar(&m.label, "label", "", "what its holder's changes are by, and by which it is revoked")
	cmd.Flags().StringVar(&m.prefix, "prefix", "", "only names that begin with `P`, which ends in a slash")
	cmd.Flags().StringVar(&m.until, "until", "", "until `WHEN`: a moment such as 2026-12-24T18:00, or a time from now such as 12h or 30d")
}

// invitation reads them.
func (m *may) invitation(now time.Time) (i board.Invitation, err error) {
	if _, err := access.ParseRight(m.right); err != nil {
		return i, usage("--%v", err)
	}
	i = board.Invitation{May: m.right, Label: m.label, Prefix: m.prefix}
	if m.until != "" {
		if i.Until, err = place.Ahead(m.until, now); err != nil {
			return i, usage("--until: %v", err)
		}
	}
	return i, nil
}

// A shared link is what create and invite print.
type sharedLink struct {
	Board string `json:"board"`
	board.Token
}

func (s sharedLink) MarshalJSON() ([]byte, error) {
	return append(scan.AppendString([]byte(`{"board":`), s.Board), append([]byte{','}, s.Token.AppendJSON(nil)[1:]...)...), nil
}

func (s sharedLink) card() sheet.Card {
	right, err := access.ParseRight(s.May)
	if err != nil {
		return sheet.Card{}
	}
	says := right.Says()
	if s.Prefix != "" {
		says += ", of the names that begin with " + s.Prefix
	}
	return sheet.Card{Board: s.Board, Says: says, Label: s.Label, Link: s.Link}
}

// tellLinks prints links that were made, or writes them to a sheet.
func (a *app) tellLinks(links []sharedLink, file string, qr bool) error {
	var failed error
	if file != "" && len(links) > 0 {
		if failed = writeSheet(file, links); failed != nil {
			file = "" // the links are told nowhere else
		} else {
			fmt.Fprintf(a.stderr, "smallpantry: %s holds %s to print; whoever reads the file has them\n", file, term.Counted(len(links), "link", "links"))
		}
	}
	for _, l := range links {
		switch {
		case a.json:
			if err := a.printJSON(l); err != nil {
				return err
			}
		case file != "":
			fmt.Fprintln(a.stdout, l.Board)
		default:
			fmt.Fprintln(a.stdout, l.Link)
		}
		if qr && !a.json {
			if err := qrcode.Print(a.stdout, l.Link, a.out().Colour()); err != nil {
				return err
			}
		}
	}
	return failed
}

// writeSheet writes a page to print, which only the user can read.
func writeSheet(file string, links []sharedLink) error {
	cards := make([]sheet.Card, len(links))
	for i, l := range links {
		cards[i] = l.card()
	}
	var page bytes.Buffer
	err := sheet.Write(&page, cards)
	if err == nil {
		err = maybe.WriteFile(file, page.Bytes(), 0o600)
	}
	if err != nil {
		return fmt.Errorf("write the sheet: %w", err)
	}
	return nil
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
		t.Row("watching now", fmt.Sprint(f.Watchers), fmt.Sprint(f.MaxWatchers), percent(f.Watchers, f.MaxWatchers))
		t.Row("requests a minute", fmt.Sprint(f.Requests), fmt.Sprint(60*f.MaxRate), percent(f.Requests, 60*f.MaxRate))
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

func (a *app) boardInvite() *cobra.Command {
	var m may
	var qr bool
	var count int
	var file string
	cmd := &cobra.Command{
		Use:   "invite PLACE --may read|add|write|own",
		Short: "Make a link to a board for somebody else",
		Long: `invite makes a link to a board, and prints it. It takes a link that may own, and
what it makes may no more than that. --count makes several, each with a number behind
its label, and --sheet a page to print with a card and a QR code for each.`,
		Example: "  smallpantry board invite @garden --may add --label tankwatch --qr\n  smallpantry board invite @garden --may write --label phone --count 30 --sheet class.html",
		Args:    exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if m.right == "" {
				return usage("say what the link's holder may: --may read, add, write or own")
			}
			invitation, err := m.invitation(time.Now())
			if err != nil {
				return err
			}
			if count < 1 || count > access.MaxTokens {
				return usage("--count is %d, and must be from 1 to %d", count, access.MaxTokens)
			}
			b, err := a.joined(args[0])
			if err != nil {
				return err
			}
			defer b.Close()
			var links []sharedLink
			for i := range count {
				one := invitation
				if count > 1 {
					one.Label = strings.TrimSpace(fmt.Sprintf("%s %d", invitation.Label, i+1))
				}
				var t board.Token
				if t, err = b.Invite(cmd.Context(), one); err != nil {
					break
				}
				links = append(links, sharedLink{b.Name(), t})
			}
			if told := a.tellLinks(links, file, qr); err == nil {
				err = told
			}
			return err
		},
	}
	m.add(cmd, "")
	cmd.Flags().BoolVar(&qr, "qr", false, "draw the link as a QR code too")
	cmd.Flags().IntVar(&count, "count", 1, "make `N` links")
	cmd.Flags().StringVar(&file, "sheet", "", "write a page to print to `FILE`.html")
	return a.withJSON(cmd)
}

func (a *app) boardTokens() *cobra.Command {
	cmd := &cobra.Command{
		Use: "tokens PLACE", Short: "List the links to a board that are out", Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := a.joined(args[0])
			if err != nil {
				return err
			}
			defer b.Close()
			list, err := b.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"board": b.Name(), "tokens": append([]board.Token{}, list...)})
			}
			fmt.Fprintf(a.stdout, "%s\n%s\n\n", b.Name(), term.Counted(len(list), "link is out", "links are out"))
			t := a.out().Table("token", "may", "label", "prefix", "made", "by", "until")
			t.Flexible = []int{2, 3}
			for _, one := range list {
				until := ""
				if !one.Until.IsZero() {
					until = one.Until.Local().Format("2006-01-02 15:04")
				}
				t.Row(one.ID, one.May, one.Label, one.Prefix, term.Age(one.Made), one.By, until)
			}
			t.Print()
			return nil
		},
	}
	return a.withJSON(cmd)
}

func (a *app) boardRevoke() *cobra.Command {
	var label string
	cmd := &cobra.Command{
		Use:     "revoke PLACE TOKEN | revoke PLACE --label L",
		Short:   "Take links back",
		Long:    `revoke takes a link back, by its token's name as board tokens lists it, or all links of a label.`,
		Example: "  smallpantry board revoke @garden k3f9wq2d\n  smallpantry board revoke @garden --label tankwatch",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 2) == (label != "") || len(args) > 2 {
				return usage("say which link: its token's name, or --label")
			}
			b, err := a.joined(args[0])
			if err != nil {
				return err
			}
			defer b.Close()
			what := "the links of " + label
			if label != "" {
				err = b.RevokeLabel(cmd.Context(), label)
			} else {
				id, _, _ := strings.Cut(args[1], ".") // of a whole token, the name is enough
				what = "the link of " + id
				err = b.Revoke(cmd.Context(), id)
			}
			if err == nil {
				fmt.Fprintf(a.stdout, "%s: revoked\n", what)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&label, "label", "", "all links of the label `L`")
	return cmd
}
