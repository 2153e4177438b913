package board

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"time"

	"github.com/small-pantry/pantry/internal/wire"
)

// Facts describe a board: its size, how near its limits it is, and what the link of the request
// allows. For a link with a Prefix the counts are 0.
type Facts struct {
	Board       string
	Version     int64
	Mark        string // identifies this version of the board's data
	Exists      bool
	Entries     int64
	Bytes       int64   // of names and values
	Keys        int64   // number of declared keys
	Closed      bool    // only declared keys can be written
	Watchers    int64   // streams and waiting calls
	Requests    int64   // in the last minute
	May         string  // what the link allows: read, add, write or own
	Admin       bool    // the link is the admin's
	Label       string  // of the link
	Prefix      string  // the link is limited to names that begin with it
	Near        float64 // how much of the fullest limit is used, from 0 to 1
	Servers     int64   // how many servers share the board; each counts requests and watchers by itself; 0 means one server alone
	Room        int64   // for how many more phones that poll at the highest rate
	MaxNames    int64   // the limits
	MaxBytes    int64
	MaxValue    int64
	MaxRate     int64 // requests a second
	MaxWatchers int64
}

// MarshalJSON returns the facts as the server sends them.
func (f Facts) MarshalJSON() ([]byte, error) { return (*wire.Facts)(&f).MarshalJSON() }

// Facts requests the facts of the board.
func (b *Board) Facts(ctx context.Context) (*Facts, error) {
	var facts *Facts
	err := b.ask(ctx, request{op: "show", method: http.MethodGet}, func(body []byte) error {
		f, err := wire.ReadFacts(body)
		if facts = (*Facts)(f); err == nil {
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

// An Invitation describes a new link.
type Invitation struct {
	May    string    // read, add, write or own
	Label  string    // names the holder in changes; at most 64 bytes
	Prefix string    // ends in a slash, and limits the link to names that begin with it; empty means all
	Until  time.Time // the end of its validity; zero means none
}

// A Token describes a link.
type Token struct {
	ID     string
	Token  string    // ID.SECRET; known only when it is made
	Link   string    // known only when it is made
	May    string    // read, add, write or own
	Label  string    // names the holder in changes
	Prefix string    // limits the link to names that begin with it; empty means all
	Until  time.Time // the end of its validity; zero means none
	Made   time.Time
	By     string // the label of the link that made this one
}

// MarshalJSON returns the token as the server sends it.
func (t Token) MarshalJSON() ([]byte, error) { return wire.Token(t).MarshalJSON() }

// Invite makes a link to the board for somebody else. It needs a link that owns the board. The new
// link allows at most what that one allows, within its prefix. Two calls make two links.
func (b *Board) Invite(ctx context.Context, i Invitation) (Token, error) {
	var t Token
	header := asJSON()
	header.Set("Idempotency-Key", draw()) // a repeat makes no second link
	err := b.ask(ctx, request{op: "invite", method: http.MethodPost, path: "/tokens", body: wire.Invitation(i).AppendJSON(nil), header: header}, func(body []byte) error {
		made, err := wire.ReadToken(body)
		if t = Token(made); err == nil && t.Link == "" {
			err = errors.New("there is no link in it")
		}
		return err
	})
	return t, err
}

// Tokens returns the links to the board that this one can revoke, oldest first.
func (b *Board) Tokens(ctx context.Context) ([]Token, error) {
	var list []Token
	err := b.ask(ctx, request{op: "tokens", method: http.MethodGet, path: "/tokens"}, func(body []byte) error {
		all, err := wire.ReadTokens(body)
		for _, t := range all {
			list = append(list, Token(t))
		}
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
