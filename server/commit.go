package server

import (
	"encoding/json"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

const maxOps = 1000

// A step is one op of a commit, read and ready to be judged.
type step func(tx *ledger.Tx) error

// commit makes several changes, all or none.
func (s *Server) commit(c *call) error {
	raw, err := readBody(c.w, c.r)
	if err != nil {
		return err
	}
	var body struct {
		Ops []json.RawMessage `json:"ops"`
	}
	if err := json.Unmarshal(raw, &body); err != nil {
		return refuse("invalid", `the body is no commit such as {"ops":[{"op":"put","name":"gate/open","value":true}]}: %v`, err)
	}
	if len(body.Ops) == 0 || len(body.Ops) > maxOps {
		return refuse("invalid", "the commit has %d ops, and must have from 1 to %d", len(body.Ops), maxOps)
	}
	steps := make([]step, len(body.Ops))
	for i, raw := range body.Ops {
		if steps[i], err = readStep(raw); err != nil {
			p := asProblem(err)
			return refuse(p.code, "op %d: %s", i, p.detail)
		}
	}
	who, err := c.author()
	if err != nil {
		return err
	}
	b, err := s.boards.get(c.board, true)
	if err != nil {
		return err
	}
	var names []string
	var values []value.Value
	var before []*ledger.Record
	result, err := b.Commit(who, func(tx *ledger.Tx) error {
		for i, step := range steps {
			if err := step(tx); err != nil {
				p := *asProblem(err)
				p.detail = "op " + value.Int(int64(i)).String() + ": " + p.detail
				return &p
			}
		}
		for _, name := range tx.Changed() {
			names = append(names, name)
			values = append(values, tx.Value(name))
			before = append(before, tx.Record(name))
		}
		return nil
	})
	if err != nil {
		return err
	}
	answer := struct {
		Version int64       `json:"version"`
		Cursor  string      `json:"cursor"`
		Entries []entryBody `json:"entries"`
		Gone    []goneBody  `json:"gone"`
	}{result.Version, s.cursor(result.Version), []entryBody{}, []goneBody{}}
	for i, name := range names {
		rec := before[i]
		if !value.Equal(rec.Value, values[i]) {
			rec = &ledger.Record{Value: values[i], Stamp: result.Stamp}
		}
		if values[i].IsZero() {
			answer.Gone = append(answer.Gone, goneBody{name, rec.Version})
		} else {
			answer.Entries = append(answer.Entries, wireEntry(ledger.Entry{Name: name, Record: rec}))
		}
	}
	writeJSON(c.w, http.StatusOK, answer)
	return nil
}

// readStep reads one op: put, drop, reset, or an operation with its name.
func readStep(raw json.RawMessage) (step, error) {
	var given map[string]json.RawMessage
	var o struct {
		Op, Name, Kind string
		Prefix         *string
		Value          json.RawMessage
		IfVersion      *int64 `json:"if_version"`
	}
	if err := json.Unmarshal(raw, &given); err != nil {
		return nil, refuse("invalid", "it is no JSON object: %v", err)
	}
	if err := json.Unmarshal(raw, &o); err != nil {
		return nil, refuse("invalid", "it can't be read: %v", err)
	}
	if o.Op == "reset" {
		if o.Prefix == nil {
			return nil, refuse("invalid", `the operation reset needs "prefix"; an empty one means all`)
		}
		return resetStep(*o.Prefix), takesOnly(given, o.Op, []string{"op", "prefix"})
	}
	if err := ledger.CheckName(o.Name); err != nil {
		return nil, err
	}
	var next apply
	var err error
	switch o.Op {
	case "put":
		next, err = putStep(o.Name, o.Kind, o.Value)
		if err == nil {
			err = takesOnly(given, o.Op, []string{"op", "name", "value", "kind", "if_version"})
		}
	case "drop":
		err = takesOnly(given, o.Op, []string{"op", "name", "if_version"})
	default:
		next, err = readOperation(raw, "name", "if_version")
	}
	if err != nil {
		return nil, err
	}
	return func(tx *ledger.Tx) error {
		if o.IfVersion != nil {
			if err := atVersion(tx, o.Name, *o.IfVersion); err != nil {
				return err
			}
		}
		now := tx.Value(o.Name)
		if next == nil {
			if now.IsZero() {
				return absent(o.Name)
			}
			tx.Drop(o.Name)
			return nil
		}
		v, err := next(now)
		if err != nil {
			return kindly(o.Name, now, err)
		}
		enc, err := ledger.Encode(v)
		if err == nil {
			tx.Put(o.Name, enc)
		}
		return err
	}, nil
}

func putStep(name, kind string, raw json.RawMessage) (apply, error) {
	if raw == nil {
		return nil, refuse("invalid", `the operation put needs "value"`)
	}
	p := &putBody{media: "application/json", raw: raw}
	if kind != "" {
		var err error
		if p.to, err = value.ParseKind(kind); err != nil {
			return nil, err
		}
	}
	return func(now value.Value) (value.Value, error) { return p.read(name, now.Kind()) }, nil
}

func resetStep(prefix string) step {
	return func(tx *ledger.Tx) error {
		for _, name := range tx.Names() {
			if strings.HasPrefix(name, prefix) {
				tx.Drop(name)
			}
		}
		return nil
	}
}

// atVersion is the condition if_version; 0 means absent.
func atVersion(tx *ledger.Tx, name string, version int64) error {
	rec := tx.Record(name)
	if version == 0 && !rec.Found() || version > 0 && rec.Found() && rec.Version == version {
		return nil
	}
	p := asProblem(refuse("conflict", "%s is at version %d, and was to be at %d", name, rec.Version, version))
	if rec.Found() {
		p.entry = &ledger.Entry{Name: name, Record: rec}
	} else {
		p.detail = name + " is absent, and was to be at a version"
	}
	return p
}
