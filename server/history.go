package server

import (
	"net/http"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

func (c *call) history() error {
	q, err := c.query("name", "limit")
	if err != nil {
		return err
	}
	limit, err := readLimit(q.Get("limit"))
	if err != nil {
		return err
	}
	for _, name := range q["name"] {
		if err := entry.CheckName(name); err != nil {
			return err
		}
	}
	answer := wire.History{Board: c.board}
	l, err := c.ledger(false)
	if err == nil && l != nil {
		answer.Version = l.Version()
		answer.Commits, err = l.History(limit, q["name"]...)
	}
	if err != nil {
		return err
	}
	return c.answer(http.StatusOK, answer.AppendJSON(nil))
}

// entriesAt answers with the entries as they were at a version, or at a time.
func (c *call) entriesAt(at string) error {
	version, err := strconv.ParseInt(at, 10, 64)
	t, notTime := time.Parse(time.RFC3339, at)
	if (err != nil || version < 0) && notTime != nil {
		return wire.Refuse(wire.Invalid, "at is %s, and must be a version or a time as in RFC 3339", scan.Quote(at))
	}
	l, err := c.ledger(false)
	if err != nil {
		return err
	}
	if l == nil {
		return refuse.As(ledger.ErrTooOld, "there is no board %s, and nothing is told of what was", c.board)
	}
	page := wire.Page{Board: c.board, Version: version, Whole: true}
	if notTime == nil {
		page.Entries, page.Version, err = l.AtTime(t)
	} else {
		page.Entries, err = l.At(version)
	}
	if err != nil {
		return err
	}
	page.Mark = c.s.mark(page.Version)
	return c.answer(http.StatusOK, page.AppendJSON(nil, false))
}
