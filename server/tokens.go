package server

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/wire"
)

// noTokens refuses calls of tokens in development mode.
func (c *call) noTokens() error {
	if c.s.dev {
		return wire.Refuse("forbidden", "the server is in development mode, which has no tokens: everybody on this machine owns every board")
	}
	return nil
}

// makeToken makes a token of the board and answers with its link.
func (c *call) makeToken() error {
	if err := c.noTokens(); err != nil {
		return err
	}
	if _, err := c.query(); err != nil {
		return err
	}
	raw, err := c.body()
	if err != nil {
		return err
	}
	ask, err := wire.ReadInvitation(raw)
	if err != nil {
		return err
	}
	may, err := access.ParseRight(ask.May)
	if err != nil {
		return err
	}
	l, err := c.ledger(false)
	if err != nil {
		return err
	}
	want := access.Grant{May: may, Label: ask.Label, Prefix: ask.Prefix, Until: ask.Until}
	once, err := c.once(ask)
	if err != nil {
		return err
	}
	if err := c.takeTurn(); err != nil { // it reads all tokens of the board
		return err
	}
	secret := access.NewSecret()
	g, _, err := c.s.tokens.Make(c.boardOf(l), c.grant, want, once, func(string) access.Secret { return secret })
	if err != nil {
		return err
	}
	if l.Closed() { // it was removed meanwhile, with its tokens
		return errors.Join(c.noBoard(), c.s.tokens.Drop(c.boardOf(l)))
	}
	t := tokenOf(g)
	t.Token = g.ID + "." + string(secret)
	t.Link = c.s.link(c.r, c.board, t.Token)
	return c.answer(http.StatusCreated, t.AppendJSON(nil))
}

// once identifies the request for a token by its Idempotency-Key.
func (c *call) once(ask wire.Invitation) (o access.Once, err error) {
	key, err := c.idempotencyKey()
	if key == "" || err != nil {
		return o, err
	}
	hash := func(parts ...string) string {
		sum := sha256.Sum256([]byte(strings.Join(parts, "\n")))
		return hex.EncodeToString(sum[:16])
	}
	return access.Once{Request: hash(c.grant.ID, c.header("Client-Instance"), key), Body: hash(string(ask.AppendJSON(nil)))}, nil
}

// tokenOf returns the public description of a token.
func tokenOf(g access.Grant) wire.Token {
	return wire.Token{ID: g.ID, May: g.May.String(), Label: g.Label, Prefix: g.Prefix, Until: g.Until, Made: g.Made, By: g.By}
}

// link returns a board's link. If the server's public address is unknown, it is the one that the
// requester uses.
func (s *Server) link(r *http.Request, board, token string) string {
	base := s.public
	if base == "" {
		scheme := "http://"
		if r.TLS != nil {
			scheme = "https://"
		}
		base = scheme + r.Host
	}
	return linkTo(base, board, token)
}

func linkTo(base, board, token string) string {
	link := strings.TrimSuffix(base, "/") + "/boards/" + board
	if token != "" {
		link += "#" + token
	}
	return link
}

// listTokens answers with the tokens that the caller can revoke.
func (c *call) listTokens() error {
	if _, err := c.query(); err != nil {
		return err
	}
	if c.s.dev {
		return c.answer(http.StatusOK, wire.AppendTokens(nil, c.board, nil))
	}
	l, err := c.ledger(false)
	if err != nil {
		return err
	}
	if err := c.s.tokens.Current(c.r.Context()); err != nil { // another server can have made some
		return err
	}
	if err := c.takeTurn(); err != nil { // a board can have a thousand
		return err
	}
	grants, err := c.s.tokens.List(c.boardOf(l), c.grant)
	if err != nil {
		return err
	}
	list := make([]wire.Token, len(grants))
	for i, g := range grants {
		list[i] = tokenOf(g)
	}
	return c.answer(http.StatusOK, wire.AppendTokens(nil, c.board, list))
}

// revokeToken revokes the token with an id.
func (c *call) revokeToken() error {
	if _, err := c.query(); err != nil {
		return err
	}
	id, err := unescape("token", c.way.last)
	if err != nil {
		return err
	}
	return c.revoke(func(g access.Grant) bool { return g.ID == id })
}

// revokeLabel revokes all tokens with a label.
func (c *call) revokeLabel() error {
	q, err := c.query("label")
	if err != nil {
		return err
	}
	label := q.Get("label")
	if label == "" {
		return wire.Refuse(wire.Invalid, "say which: DELETE …/tokens/ID, or …/tokens?label=LABEL for all with that label")
	}
	return c.revoke(func(g access.Grant) bool { return g.Label == label })
}

func (c *call) revoke(those func(access.Grant) bool) error {
	if err := c.noTokens(); err != nil {
		return err
	}
	l, err := c.ledger(false)
	if err != nil {
		return err
	}
	if err := c.takeTurn(); err != nil { // it reads all tokens of the board
		return err
	}
	if _, err := c.s.tokens.Revoke(c.boardOf(l), c.grant, those); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}
