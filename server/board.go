package server

import (
	"bytes"
	"errors"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A call is a request to a board.
type call struct {
	w     http.ResponseWriter
	r     *http.Request
	board string
	name  string // of the entry, where it is about one
}

// author says who asks, as he calls himself.
func (c *call) author() (ledger.Author, error) {
	a := ledger.Author{By: c.r.Header.Get("Client-Name"), From: c.r.Header.Get("Client-Instance")}
	if err := a.Check(); err != nil {
		return a, refuse("invalid", "the header Client-Name or Client-Instance: %v", err)
	}
	return a, nil
}

// current gives the entry's record; none where the board doesn't exist.
func (s *Server) current(c *call) (*ledger.Record, error) {
	b, err := s.boards.get(c.board, false)
	if err != nil {
		return nil, err
	}
	if b == nil {
		return nil, nil
	}
	return b.Node(c.name).Record(), nil
}

func absent(name string) error {
	return refuse("absent", "nothing is stored under %s", name)
}

func (s *Server) getEntry(c *call) error {
	rec, err := s.current(c)
	if err != nil {
		return err
	}
	if rec == nil || !rec.Found() {
		return absent(c.name)
	}
	suffix := ""
	bare := wantsText(c.r)
	if bare {
		suffix = "-t"
	}
	c.w.Header().Set("ETag", etag(rec, suffix))
	if matches(tags(c.r.Header.Values("If-None-Match")), rec) {
		c.w.WriteHeader(http.StatusNotModified)
		return nil
	}
	if bare {
		c.w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = c.w.Write([]byte(rec.Value.String()))
		return nil
	}
	writeJSON(c.w, http.StatusOK, wireEntry(ledger.Entry{Name: c.name, Record: rec}))
	return nil
}

// wantsText says whether the client asks for the bare value: it names
// text/plain, and does not put JSON before it.
func wantsText(r *http.Request) bool {
	accept := r.Header.Get("Accept")
	text := strings.Index(accept, "text/plain")
	json := strings.Index(accept, "application/json")
	return text >= 0 && (json < 0 || text < json)
}

func (s *Server) putEntry(c *call) error {
	body, err := readPut(c.w, c.r)
	if err != nil {
		return err
	}
	return s.change(c, func(now value.Value) (value.Value, error) {
		return body.read(c.name, now.Kind())
	}, func(e entryBody, _ bool) any { return e })
}

func (s *Server) postEntry(c *call) error {
	raw, err := readBody(c.w, c.r)
	if err != nil {
		return err
	}
	op, err := readOperation(bytes.TrimSpace(raw))
	if err != nil {
		return err
	}
	return s.change(c, op, func(e entryBody, changed bool) any {
		return struct {
			entryBody
			Changed bool `json:"changed"`
		}{e, changed}
	})
}

// change gives an entry the value that next makes of the present one, and
// answers with the entry in the shape that answer gives it.
func (s *Server) change(c *call, next apply, answer func(e entryBody, changed bool) any) error {
	who, err := c.author()
	if err != nil {
		return err
	}
	b, err := s.boards.get(c.board, true)
	if err != nil {
		return err
	}
	var before *ledger.Record
	var stored value.Value
	result, err := b.Commit(who, func(tx *ledger.Tx) error {
		before = tx.Record(c.name)
		if err := meets(c.r, c.name, before); err != nil {
			return err
		}
		v, err := next(before.Value)
		if err != nil {
			return kindly(c.name, before.Value, err)
		}
		enc, err := ledger.Encode(v)
		if err != nil {
			return err
		}
		stored = v
		tx.Put(c.name, enc)
		return nil
	})
	if err != nil {
		return err
	}
	rec := before
	status := http.StatusOK
	if result.Changed {
		rec = &ledger.Record{Value: stored, Stamp: result.Stamp}
		if !before.Found() {
			status = http.StatusCreated
		}
	}
	c.w.Header().Set("ETag", etag(rec, ""))
	writeJSON(c.w, status, answer(wireEntry(ledger.Entry{Name: c.name, Record: rec}), result.Changed))
	return nil
}

// kindly names the entry and its kind in the refusal of an operation.
func kindly(name string, now value.Value, err error) error {
	var p *problem
	switch {
	case errors.As(err, &p):
		return err
	case errors.Is(err, value.ErrWrongKind):
		return &problem{code: "wrong-kind", detail: name + " is " + now.Kind().String() + ": " + err.Error(), cause: err}
	case errors.Is(err, value.ErrOutOfRange):
		return &problem{code: "out-of-range", detail: name + " stays at " + value.Quoted(now) + ": " + err.Error(), cause: err}
	}
	return err
}

func (s *Server) deleteEntry(c *call) error {
	who, err := c.author()
	if err != nil {
		return err
	}
	b, err := s.boards.get(c.board, false)
	if err != nil {
		return err
	}
	if b == nil {
		return absent(c.name)
	}
	_, err = b.Commit(who, func(tx *ledger.Tx) error {
		rec := tx.Record(c.name)
		if err := meets(c.r, c.name, rec); err != nil {
			return err
		}
		if !rec.Found() {
			return absent(c.name)
		}
		tx.Drop(c.name)
		return nil
	})
	if err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}
