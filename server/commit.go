package server

import (
	"net/http"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
)

// commit makes several changes, all or none.
func (c *call) commit() error {
	if _, err := c.query(); err != nil {
		return err
	}
	out, err := c.commitEdits(true, func() ([]entry.Edit, error) {
		raw, err := c.body()
		if err != nil {
			return nil, err
		}
		return wire.ReadEdits(raw)
	})
	if err != nil {
		return err
	}
	page := wire.Page{
		Board: c.board, Version: out.Version, Mark: c.s.mark(out.Version), Since: c.s.mark(out.Before),
		Entries: out.Entries, Gone: out.Gone, Results: out.Results,
	}
	return c.answer(http.StatusOK, page.AppendJSON(nil, false))
}

// commitEdits makes the edits that read gives, on the board of the call; where
// there is none and create is not set, everything is absent.
func (c *call) commitEdits(create bool, read func() ([]entry.Edit, error)) (rules.Outcome, error) {
	edits, err := read()
	if err != nil {
		return rules.Outcome{}, err
	}
	who, err := c.author()
	if err != nil {
		return rules.Outcome{}, err
	}
	l, err := c.ledger(create)
	if err != nil {
		return rules.Outcome{}, err
	}
	if l == nil {
		return rules.Outcome{}, rules.Absent(c.name)
	}
	return rules.Commit(l, who, edits)
}
