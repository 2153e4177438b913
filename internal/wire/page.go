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
