package server

import (
	"errors"
	"net/http"
	"net/url"
	"strconv"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A pastBody is a commit on the wire.
type pastBody struct {
	Version int64        `json:"version"`
	At      string       `json:"at"`
	By      string       `json:"by,omitempty"`
	From    string       `json:"from,omitempty"`
	Changes []changeBody `json:"changes"`
}

// A changeBody is what a commit did to a name; old or new is left out where
// nothing was, or is, stored.
type changeBody struct {
	Name    string      `json:"name"`
	OldKind value.Kind  `json:"old_kind,omitzero"`
	Old     value.Value `json:"old,omitzero"`
	NewKind value.Kind  `json:"new_kind,omitzero"`
	New     value.Value `json:"new,omitzero"`
}

func (s *Server) history(c *call) error {
	q := c.r.URL.Query()
	if err := onlyKeys(q, "name", "limit"); err != nil {
		return err
	}
	limit := defaultLimit
	if text := q.Get("limit"); text != "" {
		var err error
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > maxLimit {
			return refuse("invalid", "limit is %s, and must be from 1 to %d", value.Quote(text), maxLimit)
		}
	}
	for _, name := range q["name"] {
		if err := ledger.CheckName(name); err != nil {
			return err
		}
	}
	answer := struct {
		Board   string     `json:"board"`
		Version int64      `json:"version"`
		Commits []pastBody `json:"commits"`
	}{Board: c.board, Commits: []pastBody{}}
	b, err := s.boards.get(c.board, false)
	if err != nil {
		return err
	}
	if b != nil {
		past, err := b.History(limit, q["name"]...)
		if err != nil {
			return err
		}
		answer.Version = b.Version()
		for _, p := range past {
			body := pastBody{Version: p.Version, At: p.Time().Format(timeLayout), By: p.By, From: p.From}
			for _, ch := range p.Changes {
				body.Changes = append(body.Changes, changeBody{ch.Name, ch.Old.Kind(), ch.Old, ch.New.Kind(), ch.New})
			}
			answer.Commits = append(answer.Commits, body)
		}
	}
	writeJSON(c.w, http.StatusOK, answer)
	return nil
}

// entriesAt answers with the entries as they were at a version.
func (s *Server) entriesAt(c *call, q url.Values) error {
	if err := onlyKeys(q, "at"); err != nil {
		return err
	}
	version, err := strconv.ParseInt(q.Get("at"), 10, 64)
	if err != nil || version < 0 {
		return refuse("invalid", "at is %s, and must be a version", value.Quote(q.Get("at")))
	}
	body := listBody{Board: c.board, Version: version, Cursor: s.cursor(version), Entries: []entryBody{}, Gone: []goneBody{}}
	b, err := s.boards.get(c.board, false)
	if err != nil {
		return err
	}
	if b == nil {
		return refuse("too-old", "the board %s has no version %d", c.board, version)
	}
	entries, err := b.At(version)
	if errors.Is(err, ledger.ErrTooOld) {
		return &problem{code: "too-old", detail: err.Error(), cause: err}
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		body.Entries = append(body.Entries, wireEntry(e))
	}
	writeJSON(c.w, http.StatusOK, body)
	return nil
}

// onlyKeys refuses a query with something that it doesn't take.
func onlyKeys(q url.Values, keys ...string) error {
	for key := range q {
		if !contains(keys, key) {
			return refuse("invalid", "there is no %s in this query; it takes %v", value.Quote(key), keys)
		}
	}
	return nil
}
