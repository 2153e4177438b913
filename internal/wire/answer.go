package wire

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Page is the one shape for what changed: a list, a delta, the answer to a
// commit.
type Page struct {
	Board   string
	Version int64
	Mark    string // where a reader stands who has taken it in
	Since   string // the mark from which on it tells everything; empty with Whole
	Entries []entry.Entry
	Gone    []entry.Gone
	Whole   bool           // it tells all that was asked for, not only what changed
	Next    string         // the name after which more follow
	Results []rules.Result // of a commit: one an edit
}

// AppendJSON appends the page as an object; with bare, entries come without
// their values.
func (p *Page) AppendJSON(dst []byte, bare bool) []byte {
	o := scan.AppendObject(dst)
	o.Text("board", p.Board)
	o.Int("version", p.Version)
	o.Text("mark", p.Mark)
	o.TextIf("since", p.Since)
	write := entry.Entry.AppendJSON
	if bare {
		write = entry.Entry.AppendBare
	}
	scan.Array(&o, "entries", p.Entries, func(dst []byte, e entry.Entry) []byte { return write(e, dst) })
	scan.Array(&o, "gone", p.Gone, func(dst []byte, g entry.Gone) []byte { return g.AppendJSON(dst) })
	o.Bool("whole", p.Whole)
	o.TextIf("next", p.Next)
	if p.Results != nil {
		scan.Array(&o, "results", p.Results, appendResult)
	}
	return o.End()
}

func appendResult(dst []byte, r rules.Result) []byte {
	o := scan.AppendObject(dst)
	o.Bool("changed", r.Changed)
	if !r.Taken.IsZero() {
		o.Dst = r.Taken.AppendJSON(o.Name("taken"))
	}
	return o.End()
}

// ReadPage reads a page as AppendJSON writes it. What has no board, no mark or
// no entries is none.
func ReadPage(data []byte) (*Page, error) {
	p := &Page{}
	r := scan.New(data)
	err := r.Fields(value.MaxDepth, scan.To("board", &p.Board), scan.To("version", &p.Version), scan.To("mark", &p.Mark), scan.To("since", &p.Since),
		scan.To("whole", &p.Whole), scan.To("next", &p.Next), scan.To("entries", scan.List(r, &p.Entries, entry.Read)),
		scan.To("gone", scan.List(r, &p.Gone, entry.ReadGone)), scan.To("results", scan.List(r, &p.Results, readResult)))
	if err == nil {
		err = r.End()
	}
	if err == nil && (p.Board == "" || p.Mark == "") {
		err = refuse.As(value.ErrInvalid, "it has no board, or no mark")
	}
	return p, err
}

func readResult(r *scan.Reader) (out rules.Result, err error) {
	var taken []byte
	err = r.Fields(value.MaxDepth, scan.To("changed", &out.Changed), scan.To("taken", &taken))
	if err == nil && taken != nil {
		out.Taken, err = value.ParseAny(taken)
	}
	return out, err
}

// A History is a board's newest commits, newest first.
type History struct {
	Board   string
	Version int64
	Commits []entry.Commit
}

// AppendJSON appends the history as an object.
func (h *History) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	o.Text("board", h.Board)
	o.Int("version", h.Version)
	scan.Array(&o, "commits", h.Commits, func(dst []byte, c entry.Commit) []byte { return c.AppendJSON(dst) })
	return o.End()
}

// ReadHistory reads a history as AppendJSON writes it.
func ReadHistory(data []byte) (*History, error) {
	h := &History{}
	r := scan.New(data)
	err := r.Fields(value.MaxDepth, scan.To("board", &h.Board), scan.To("version", &h.Version), scan.To("commits", scan.List(r, &h.Commits, entry.ReadCommit)))
	if err == nil {
		err = r.End()
	}
	if err == nil && h.Board == "" {
		err = refuse.As(value.ErrInvalid, "it has no board")
	}
	return h, err
}

// A Summary is what a server tells of one of its boards, without loading it.
type Summary struct {
	Board   string
	Version int64
	Bytes   int64 // of its file
}

// AppendSummaries appends a server's boards as an object.
func AppendSummaries(dst []byte, boards []Summary) []byte {
	o := scan.AppendObject(dst)
	scan.Array(&o, "boards", boards, func(dst []byte, s Summary) []byte { return s.AppendJSON(dst) })
	return o.End()
}

// AppendJSON appends the summary as an object.
func (s Summary) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	o.Text("board", s.Board)
	o.Int("version", s.Version)
	o.Int("bytes", s.Bytes)
	return o.End()
}

// MarshalJSON gives the form of AppendJSON.
func (s Summary) MarshalJSON() ([]byte, error) { return s.AppendJSON(nil), nil }

// ReadSummaries reads what AppendSummaries writes.
func ReadSummaries(data []byte) (boards []Summary, err error) {
	r := scan.New(data)
	err = r.Fields(value.MaxDepth, scan.To("boards", scan.List(r, &boards, readSummary)))
	if err == nil {
		err = r.End()
	}
	return boards, err
}

func readSummary(r *scan.Reader) (s Summary, err error) {
	err = r.Fields(value.MaxDepth, scan.To("board", &s.Board), scan.To("version", &s.Version), scan.To("bytes", &s.Bytes))
	return s, err
}

// AppendEdits appends a commit's body.
func AppendEdits(dst []byte, edits []entry.Edit) []byte {
	o := scan.AppendObject(dst)
	scan.Array(&o, "ops", edits, func(dst []byte, e entry.Edit) []byte { return e.AppendJSON(dst) })
	return o.End()
}

// MaxEdits is how many edits one commit has at most.
const MaxEdits = 1000

// ReadEdits reads a commit's body, strictly. The error is a *rules.Refusal
// for an edit that is none, and else wraps value.ErrInvalid.
func ReadEdits(data []byte) (edits []entry.Edit, err error) {
	var refused error
	r := scan.New(data)
	err = r.Object(func(member []byte) error {
		if string(member) != "ops" {
			refused = refuse.As(value.ErrInvalid, "a commit takes no %s; it takes ops", scan.Quote(string(member)))
			return refused
		}
		return r.Array(func() error {
			raw, err := r.Raw(value.MaxDepth + 2)
			if err != nil {
				refused = &rules.Refusal{Edit: len(edits), Err: refuse.As(value.ErrInvalid, "it can't be read: %v", err)}
				return refused
			}
			if len(edits) >= MaxEdits { // they are counted only
				edits = append(edits, entry.Edit{})
				return nil
			}
			e, err := entry.ReadEdit(raw)
			if err != nil {
				refused = &rules.Refusal{Edit: len(edits), Err: err}
				return refused
			}
			edits = append(edits, e)
			return nil
		})
	})
	if err == nil {
		err = r.End()
	}
	switch {
	case refused != nil:
		return nil, refused
	case err != nil:
		return nil, refuse.As(value.ErrInvalid, `the body is no commit such as {"ops":[{"op":"put","name":"gate/open","value":true}]}: %v`, err)
	case len(edits) == 0 || len(edits) > MaxEdits:
		return nil, refuse.As(value.ErrInvalid, "the commit has %d ops, and must have from 1 to %d", len(edits), MaxEdits)
	}
	return edits, nil
}
