package server

import (
	"net/http"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// history answers with the newest commits and restore points, at most a page of them.
func (c *call) history() error {
	u, err := c.query("name*", "prefix*", "limit", "before")
	if err != nil {
		return err
	}
	q, err := c.selection(u)
	if err != nil {
		return err
	}
	ask := ledger.HistoryQuery{Limit: q.Limit, Has: q.Has, Points: true, Bytes: rules.MaxPage}
	if s := u.Get("before"); s != "" {
		if ask.Before, err = strconv.ParseInt(s, 10, 64); err != nil || ask.Before < 1 {
			return wire.Refuse(wire.Invalid, "before is %s, and must be a version", scan.Quote(s))
		}
	}
	answer := wire.History{Board: c.board}
	if err := c.readsPast(); err != nil {
		return err
	}
	l, err := c.present()
	if err == nil && l != nil {
		answer.Version = l.Version()
		var more bool
		if answer.Commits, more, err = l.HistoryOf(ask); more {
			answer.Next = answer.Commits[len(answer.Commits)-1].Version
		}
	}
	if err != nil {
		return err
	}
	return c.answer(http.StatusOK, answer.AppendJSON(nil))
}

// entriesAt answers with the entries as they were at a version or a time.
func (c *call) entriesAt() error {
	u, err := c.query("at", "name*", "prefix*", "names", "limit", "after")
	if err != nil {
		return err
	}
	q, err := c.selection(u)
	if err != nil {
		return err
	}
	at := u.Get("at")
	version, err := strconv.ParseInt(at, 10, 64)
	t, notTime := time.Parse(time.RFC3339, at)
	if (err != nil || version < 0) && notTime != nil {
		return wire.Refuse(wire.Invalid, "at is %s, and must be a version or a time as in RFC 3339; the + of a zone is written %%2B", scan.Quote(at))
	}
	l, err := c.present()
	if err != nil {
		return err
	}
	if l == nil {
		return refuse.As(ledger.ErrTooOld, "there is no board %s, and no history of one", c.board)
	}
	if err := c.readsPast(); err != nil {
		return err
	}
	var entries []entry.Entry
	if notTime == nil {
		entries, version, err = l.AtTime(t)
	} else {
		entries, err = l.At(version)
	}
	if err != nil {
		return err
	}
	page := rules.Page{Board: c.board, Version: version, Mark: mark.At(l, version).String(), Whole: true}
	q.Fill(&page, entries)
	return c.answerPage(http.StatusOK, page, q.Bare)
}
