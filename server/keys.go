package server

import (
	"net/http"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
)

// sizeOfKey is about the length of a declared key in an answer.
const sizeOfKey = 100

// listKeys answers with the declared keys, or with code for one name.
func (c *call) listKeys() error {
	u, err := c.query("code", "name")
	if err != nil {
		return err
	}
	if u.Has("code") || u.Has("name") {
		return c.keyCode(u)
	}
	l, err := c.present()
	if err != nil {
		return err
	}
	keys := wire.Keys{Board: c.board, Mark: rules.NoBoard.String()}
	if l != nil {
		if err := c.answersLarge(l.CountKeys() * sizeOfKey); err != nil {
			return err
		}
		snap := l.Snapshot()
		defer snap.Release()
		keys.Version, keys.Mark, keys.Keys, keys.Closed = snap.Version, mark.Of(snap.Commit()).String(), c.grant.Keys(l.Keys()), l.KeysClosed()
	}
	return c.answer(http.StatusOK, keys.AppendJSON(nil))
}

// declare stores the keys of an app and answers with findings.
func (c *call) declare() error {
	if _, err := c.query(); err != nil {
		return err
	}
	raw, err := c.bodyInTurn()
	if err != nil {
		return err
	}
	d, err := wire.ReadDeclaration(raw)
	if err != nil {
		return err
	}
	who, err := c.author()
	if err == nil {
		err = d.Check() // before a board is created for it
	}
	if err == nil {
		err = c.grant.Declaration(d)
	}
	if err != nil {
		return err
	}
	l, err := c.ledger(true)
	if err != nil {
		return err
	}
	if err := c.mayWrite(); err != nil {
		return err
	}
	d.Prefix, d.Allowed = c.grant.Prefix, c.stillAllowed
	findings, result, err := rules.Declare(l, who, d)
	if err != nil {
		return err
	}
	answer := wire.Keys{Board: c.board, Version: result.Version, Mark: mark.Of(*result.After).String(), Keys: c.grant.Keys(l.Keys()), Closed: l.KeysClosed(), Findings: findings, Declared: true}
	return c.answer(http.StatusOK, answer.AppendJSON(nil))
}

// withdraw removes the declaration of a key.
func (c *call) withdraw() error {
	q, err := c.query("family")
	if err != nil {
		return err
	}
	family, err := isTrue(q, "family")
	if err != nil {
		return err
	}
	who, err := c.author()
	if err != nil {
		return err
	}
	key := entry.Declared{Key: entry.Key{Name: c.name, Family: family}}
	if err := c.grant.Name(key.ID()); err != nil {
		return err
	}
	var l *ledger.Ledger
	if l, err = c.ledger(false); err != nil {
		return err
	}
	if l == nil {
		return wire.Refuse("absent", "no key %s is declared: there is no board %s", c.name, c.board)
	}
	if _, _, err = rules.Withdraw(l, who, key.ID(), c.stillAllowed); err == nil {
		c.w.WriteHeader(http.StatusNoContent)
	}
	return err
}
