package board

import (
	"context"
	"errors"
	"net/http"
	"net/url"

	"github.com/small-pantry/pantry/internal/wire"
)

// Facts are what there is to know of a board at present: how much it holds, how near its
// limits it is, and what the link that asks may do. With a link that is bound to a Prefix
// nothing is counted.
type Facts = wire.Facts

// Facts asks the server for the facts of the board.
func (b *Board) Facts(ctx context.Context) (*Facts, error) {
	var facts *Facts
	err := b.ask(ctx, request{op: "show", method: http.MethodGet}, func(body []byte) (err error) {
		if facts, err = wire.ReadFacts(body); err == nil {
			err = b.ours(facts.Board)
		}
		return err
	})
	return facts, err
}

// ask makes a call, and has its answer read.
func (b *Board) ask(ctx context.Context, rq request, read func(body []byte) error) error {
	got, err := b.send(ctx, rq)
	if err == nil && read != nil {
		if err = read(got.body); err != nil {
			err = unexpected(err)
		}
	}
	return b.fail(rq.op, "", err)
}

func asJSON() http.Header { return http.Header{"Content-Type": {"application/json"}} }

// An Invitation says what whoever gets a link may: May is read, add, write or own; Label
// is what his changes will be by, 64 bytes at most; Prefix, which ends in a slash, binds
// the link to the names that begin so; after Until it is none any more, unless that is zero.
type Invitation = wire.Invitation

// A Token is what is told of a link that is out. Its Token and Link are told once, when it
// is made.
type Token = wire.Token

// Invite makes a link to the board for somebody else. It takes a link that may own; what
// it makes may no more than that, and within its prefix. Two calls make two links.
func (b *Board) Invite(ctx context.Context, i Invitation) (Token, error) {
	var t Token
	err := b.ask(ctx, request{op: "invite", method: http.MethodPost, path: "/tokens", body: i.AppendJSON(nil), header: asJSON()}, func(body []byte) (err error) {
		if t, err = wire.ReadToken(body); err == nil && t.Link == "" {
			err = errors.New("there is no link in it")
		}
		return err
	})
	return t, err
}

// Tokens tells of the links to the board that are out and that this one may revoke, the
// oldest first.
func (b *Board) Tokens(ctx context.Context) ([]Token, error) {
	var list []Token
	err := b.ask(ctx, request{op: "tokens", method: http.MethodGet, path: "/tokens"}, func(body []byte) (err error) {
		list, err = wire.ReadTokens(body)
		return err
	})
	return list, err
}

// Revoke takes back the link whose token has an ID: what it has open ends within a
// second. The error wraps pantry.ErrAbsent where there is none.
func (b *Board) Revoke(ctx context.Context, id string) error {
	return b.ask(ctx, request{op: "revoke", method: http.MethodDelete, path: "/tokens/" + url.PathEscape(id)}, nil)
}

// RevokeLabel is Revoke of all links of a label.
func (b *Board) RevokeLabel(ctx context.Context, label string) error {
	return b.ask(ctx, request{op: "revoke", method: http.MethodDelete, path: "/tokens", query: url.Values{"label": {label}}}, nil)
}
