package board

import (
	"context"
	"errors"
	"net/http"
	"net/url"

	"github.com/small-pantry/pantry/internal/wire"
)

// Facts describe a board: its size, how near its limits it is, and what the link of the request
// allows. For a link with a Prefix the counts are absent.
type Facts = wire.Facts

// Facts requests the facts of the board.
func (b *Board) Facts(ctx context.Context) (*Facts, error) {
	var facts *Facts
	err := b.ask(ctx, request{op: "show", method: http.MethodGet}, func(body []byte) (err error) {
		if facts, err = wire.ReadFacts(body); err == nil {
			err = b.conn.ours(facts.Board)
		}
		return err
	})
	return facts, err
}

// ask makes a call and reads its answer.
func (b *Board) ask(ctx context.Context, rq request, read func(body []byte) error) error {
	got, err := b.conn.send(ctx, rq)
	if err == nil && read != nil {
		if err = read(got.body); err != nil {
			err = unexpected(err)
		}
	}
	return b.conn.fail(rq.op, "", err)
}

func asJSON() http.Header { return http.Header{"Content-Type": {"application/json"}} }

// An Invitation describes a new link: May is read, add, write or own; Label names its holder in
// changes and has at most 64 bytes; Prefix, which ends in a slash, limits the link to names that
// begin with it; Until is the end of its validity, and zero means none.
type Invitation = wire.Invitation

// A Token describes a link. Its Token and Link are known only when it is made.
type Token = wire.Token

// Invite makes a link to the board for somebody else. It needs a link that owns the board. The new
// link allows at most what that one allows, within its prefix. Two calls make two links.
func (b *Board) Invite(ctx context.Context, i Invitation) (Token, error) {
	var t Token
	header := asJSON()
	header.Set("Idempotency-Key", draw()) // a repeat makes no second link
	err := b.ask(ctx, request{op: "invite", method: http.MethodPost, path: "/tokens", body: i.AppendJSON(nil), header: header}, func(body []byte) (err error) {
		if t, err = wire.ReadToken(body); err == nil && t.Link == "" {
			err = errors.New("there is no link in it")
		}
		return err
	})
	return t, err
}

// Tokens returns the links to the board that this one can revoke, oldest first.
func (b *Board) Tokens(ctx context.Context) ([]Token, error) {
	var list []Token
	err := b.ask(ctx, request{op: "tokens", method: http.MethodGet, path: "/tokens"}, func(body []byte) (err error) {
		list, err = wire.ReadTokens(body)
		return err
	})
	return list, err
}

// Revoke revokes the link whose token has an ID. Its streams end within a second. The error wraps
// pantry.ErrAbsent if there is no such link.
func (b *Board) Revoke(ctx context.Context, id string) error {
	return b.ask(ctx, request{op: "revoke", method: http.MethodDelete, path: "/tokens/" + url.PathEscape(id)}, nil)
}

// RevokeLabel revokes all links with a label.
func (b *Board) RevokeLabel(ctx context.Context, label string) error {
	return b.ask(ctx, request{op: "revoke", method: http.MethodDelete, path: "/tokens", query: url.Values{"label": {label}}}, nil)
}
