package server

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
)

// commit makes several changes, all or none of them.
func (c *call) commit() error {
	if _, err := c.query(); err != nil {
		return err
	}
	raw, err := c.bodyInTurn()
	if err != nil {
		return err
	}
	edits, err := wire.ReadEdits(raw)
	if err != nil {
		return err
	}
	out, err := c.edits(func(bool) int { return http.StatusOK }, edits...)
	if err != nil {
		return err
	}
	page := rules.Page{
		Board: c.board, Version: out.Version, Mark: out.Mark().String(), Since: out.Since().String(),
		Entries: out.Entries, Gone: out.Gone, Results: out.Results, Findings: out.Findings,
	}
	return c.answerPage(out.Status, page, false)
}

// edits makes edits on the call's board, which is created if there is none and they change
// something. status is the status of the answer.
func (c *call) edits(status func(created bool) int, edits ...entry.Edit) (out rules.Outcome, err error) {
	who, err := c.author()
	if err == nil {
		err = c.grant.Edits(edits)
	}
	if err == nil {
		err = c.mayWrite()
	}
	if err == nil && slices.ContainsFunc(edits, func(e entry.Edit) bool { return e.Restore != nil }) {
		err = c.readsPast()
	}
	if err != nil {
		return out, err
	}
	call := rules.Call{
		Who: who, Edits: edits, Widen: true, Limits: c.s.limits.board(), Status: status,
		Prefix: c.grant.Prefix, Guard: c.grant.Guard, Allowed: c.stillAllowed, Erase: c.erases, Reserve: c.works(),
	}
	var l *ledger.Ledger
	if call.Request, err = c.edited(who, edits); err == nil {
		l, err = c.ledger(false)
	}
	switch {
	case err != nil:
		return out, err
	case l == nil:
		out, err = rules.CommitNew(call, func() (*ledger.Ledger, error) { return c.ledger(true) })
	default:
		if call.Request != nil {
			// A client that sent the request before the board existed can't know of an earlier one;
			// this board has every receipt that was not dropped.
			call.Request.Known = func(m mark.Mark) bool { return m == rules.NoBoard || mark.Known(l, m) }
		}
		out, err = rules.Commit(l, call)
	}
	if err == nil && !c.s.dev {
		c.s.writes.wrote(c.board, out.Work, time.Now())
	}
	if err == nil && out.Repeated {
		c.w.Header().Set("Repeated", "true")
		if out.Replaced() && c.readsPast() == nil { // without a slot, the version has to do
			if err := out.Recall(l); err != nil {
				c.s.log.Warn("what a repeated put replaced can't be read", "board", c.board, "cause", err)
			}
		}
	}
	return out, err
}

// longestKey is the maximum length of an Idempotency-Key.
const longestKey = 200

// edited returns the idempotency key of the call, or nil.
func (c *call) edited(who entry.Author, edits []entry.Edit) (*rules.Request, error) {
	since := c.header("Idempotency-Since")
	key, err := c.idempotencyKey()
	switch {
	case err != nil:
		return nil, err
	case key == "" && since != "":
		return nil, wire.Refuse(wire.Invalid, "the header Idempotency-Since is the mark of the first attempt with an Idempotency-Key, and that header is missing")
	case key == "":
		return nil, nil
	}
	r := &rules.Request{
		Token: c.grant.ID, Instance: who.From, Key: key,
		Hash:  rules.HashOf(c.r.Method+" "+c.r.URL.Query().Get("forget")+" "+c.name, edits),
		Known: func(m mark.Mark) bool { return m == rules.NoBoard },
	}
	if since != "" {
		if r.Since, err = mark.Parse(since); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// idempotencyKey returns the Idempotency-Key of the call, bare or quoted; "" if there is none.
func (c *request) idempotencyKey() (string, error) {
	given := c.r.Header["Idempotency-Key"]
	if len(given) == 0 {
		return "", nil
	}
	key := given[0]
	if len(key) > 1 && strings.HasPrefix(key, `"`) && strings.HasSuffix(key, `"`) {
		key = key[1 : len(key)-1]
	}
	if len(given) > 1 || key == "" || len(key) > longestKey || strings.ContainsFunc(key, func(r rune) bool { return r < ' ' || r > '~' || r == '"' }) {
		return "", wire.Refuse(wire.Invalid, "the header Idempotency-Key must be one key of 1 to %d visible characters, best random ones", longestKey)
	}
	return key, nil
}
