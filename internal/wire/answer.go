package wire

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Page is the one shape for what changed.
type Page = rules.Page

func pageFields(p *Page, write func(entry.Entry, []byte) []byte) []scan.Field {
	fields := []scan.Field{
		scan.Always("board", &p.Board), scan.Always("version", &p.Version), scan.Always("mark", &p.Mark), scan.Maybe("since", &p.Since),
		scan.Always("entries", scan.List(&p.Entries, entry.Read, write)), scan.Always("gone", scan.List(&p.Gone, entry.ReadGone, entry.Gone.AppendJSON)),
		scan.Always("whole", &p.Whole), scan.Maybe("next", &p.Next),
	}
	results := scan.List(&p.Results, readResult, appendResult)
	if p.Results == nil {
		results.Write = nil
	}
	return append(fields, scan.Maybe("results", results))
}

// AppendPage appends a page as an object; with bare, entries come without their
// values.
func AppendPage(dst []byte, p *Page, bare bool) []byte {
	write := entry.Entry.AppendJSON
	if bare {
		write = entry.Entry.AppendBare
	}
	return scan.AppendFields(dst, pageFields(p, write)...)
}

// ReadPage reads a page as AppendPage writes it. What has no board or no mark
// is none.
func ReadPage(data []byte) (*Page, error) {
	p := &Page{}
	err := scan.ReadFields(data, value.MaxDepth, pageFields(p, entry.Entry.AppendJSON)...)
	if err == nil && (p.Board == "" || p.Mark == "") {
		err = refuse.As(value.ErrInvalid, "it has no board, or no mark")
	}
	return p, err
}

func resultFields(r *rules.Result, taken *[]byte) []scan.Field {
	return []scan.Field{scan.Always("changed", &r.Changed), scan.Maybe("taken", taken)}
}

func appendResult(r rules.Result, dst []byte) []byte {
	var taken []byte
	if !r.Taken.IsZero() {
		taken = r.Taken.AppendJSON(nil)
	}
	return scan.AppendFields(dst, resultFields(&r, &taken)...)
}

func readResult(r *scan.Reader) (out rules.Result, err error) {
	var taken []byte
	err = r.Fields(value.MaxDepth, resultFields(&out, &taken)...)
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

func (h *History) fields() []scan.Field {
	return []scan.Field{
		scan.Always("board", &h.Board), scan.Always("version", &h.Version),
		scan.Always("commits", scan.List(&h.Commits, entry.ReadCommit, entry.Commit.AppendJSON)),
	}
}

// AppendJSON appends the history as an object.
func (h *History) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, h.fields()...) }

// ReadHistory reads a history as AppendJSON writes it.
func ReadHistory(data []byte) (*History, error) {
	h := &History{}
	err := scan.ReadFields(data, value.MaxDepth, h.fields()...)
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

func (s *Summary) fields() []scan.Field {
	return []scan.Field{scan.Always("board", &s.Board), scan.Always("version", &s.Version), scan.Always("bytes", &s.Bytes)}
}

// AppendJSON appends the summary as an object.
func (s Summary) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, s.fields()...) }

// MarshalJSON gives the form of AppendJSON.
func (s Summary) MarshalJSON() ([]byte, error) { return s.AppendJSON(nil), nil }

func readSummary(r *scan.Reader) (s Summary, err error) {
	err = r.Fields(value.MaxDepth, s.fields()...)
	return s, err
}

func summaries(boards *[]Summary) scan.Field {
	return scan.Always("boards", scan.List(boards, readSummary, Summary.AppendJSON))
}

// AppendSummaries appends a server's boards as an object.
func AppendSummaries(dst []byte, boards []Summary) []byte {
	return scan.AppendFields(dst, summaries(&boards))
}

// ReadSummaries reads what AppendSummaries writes.
func ReadSummaries(data []byte) (boards []Summary, err error) {
	err = scan.ReadFields(data, value.MaxDepth, summaries(&boards))
	return boards, err
}

// AppendEdits appends a commit's body.
func AppendEdits(dst []byte, edits []entry.Edit) []byte {
	return scan.AppendFields(dst, scan.Always("ops", scan.List(&edits, nil, entry.Edit.AppendJSON)))
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
