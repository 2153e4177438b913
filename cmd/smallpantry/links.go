package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/renameio/v2/maybe"
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/qrcode"
	"github.com/small-pantry/pantry/internal/cli/sheet"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// may has the flags that describe a new link.
type may struct{ right, label, prefix, until string }

func (m *may) add(cmd *cobra.Command, right string) {
	cmd.Flags().StringVar(&m.right, "may", right, "what `RIGHT` its holder has: read, add, write or own")
	cmd.Flags().StringVar(&m.label, "label", "", "`NAME` that shows beside its holder's changes, and revokes it later")
	cmd.Flags().StringVar(&m.prefix, "prefix", "", "only names that begin with `P`, which ends in a slash")
	cmd.Flags().StringVar(&m.until, "until", "", "until `WHEN`: a moment such as 2026-12-24T18:00, or a time from now such as 12h or 30d")
}

// invitation reads the flags.
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

// A shared link is the output of create and invite.
type sharedLink struct {
	Board string `json:"board"`
	board.Token
}

func (s sharedLink) MarshalJSON() ([]byte, error) {
	return append(scan.AppendString([]byte(`{"board":`), s.Board), append([]byte{','}, wire.Token(s.Token).AppendJSON(nil)[1:]...)...), nil
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

// tellLinks prints new links, or writes them to a sheet.
func (a *app) tellLinks(links []sharedLink, file string, qr bool) error {
	var failed error
	if file != "" && len(links) > 0 {
		if failed = writeSheet(file, links); failed != nil {
			file = "" // they are shown only once
		} else {
			fmt.Fprintf(a.stderr, "smallpantry: %s holds %s to print; keep it safe, since anyone who reads it can use them\n", file, term.Counted(len(links), "link", "links"))
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

// writeSheet writes a page to print that only the user can read.
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

func (a *app) boardInvite() *cobra.Command {
	var m may
	var qr bool
	var count int
	var file string
	cmd := &cobra.Command{
		Use:   "invite PLACE --may read|add|write|own",
		Short: "Make a link to a board for somebody else",
		Long: `invite makes a link to a board and prints it. It needs a link that owns the board,
and the new link can do at most the same. --count makes several links with numbered
labels. --sheet writes a page to print, with a card and a QR code for each.`,
		Example: "  smallpantry board invite @garden --may add --label tankwatch --qr\n  smallpantry board invite @garden --may write --label phone --count 30 --sheet plots.html",
		Args:    exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if m.right == "" {
				return usage("say what the link may do: --may read, add, write or own")
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
		Use: "tokens PLACE", Example: `  smallpantry board tokens @garden`, Short: "List the links to a board", Args: exactly(1),
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

// labels returns the labels of a board's links, for an error.
func labels(ctx context.Context, b *board.Board) string {
	tokens, err := b.Tokens(ctx)
	if err != nil || len(tokens) == 0 {
		return ""
	}
	var all []string
	for _, t := range tokens {
		if t.Label != "" && len(all) < 10 {
			all = append(all, scan.Quote(t.Label))
		}
	}
	return "; the labels are " + strings.Join(all, ", ")
}

func (a *app) boardRevoke() *cobra.Command {
	var label string
	cmd := &cobra.Command{
		Use:   "revoke PLACE TOKEN | revoke PLACE --label L",
		Short: "Revoke links",
		Long: `revoke revokes a link by the name of its token, as board tokens prints it, or all
links with a label.`,
		Example: "  smallpantry board revoke @garden k3f9wq2d\n  smallpantry board revoke @garden --label tankwatch",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 2) == (label != "") || len(args) > 2 {
				return usage("name the link: its token's name, or --label")
			}
			b, err := a.joined(args[0])
			if err != nil {
				return err
			}
			defer b.Close()
			what := "the links of " + label
			if label != "" {
				if err = b.RevokeLabel(cmd.Context(), label); errors.Is(err, pantry.ErrAbsent) {
					err = refuse.As(pantry.ErrAbsent, "board %s has no link with the label %s%s", b.Name(), scan.Quote(label), labels(cmd.Context(), b))
				}
			} else {
				id, _, _ := strings.Cut(args[1], ".") // also accept a whole token
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
