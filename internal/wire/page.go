package wire

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Page is the one shape for changes.
type Page = rules.Page

// pageFields are the members of a page in three parts: those before its entries, the entries, and
// those after them.
func pageFields(p *Page, write func(entry.Entry, []byte) []byte) (head []scan.Field, entries scan.Field, tail []scan.Field) {
	results := scan.List(&p.Results, readResult, appendResult)
	if p.Results == nil {
		results.Write = nil
	}
	findings := scan.List(&p.Findings, readNear, AppendNear)
	if p.Findings == nil {
		findings.Write = nil
	}
	return []scan.Field{scan.Always("board", &p.Board), scan.Always("version", &p.Version), scan.Always("mark", &p.Mark), scan.Maybe("since", &p.Since)},
		scan.Always("entries", scan.List(&p.Entries, entry.Read, write)),
		[]scan.Field{
			scan.Always("gone", scan.List(&p.Gone, entry.ReadGone, entry.Gone.AppendJSON)),
			scan.Always("whole", &p.Whole), scan.Maybe("next", &p.Next), scan.Maybe("results", results), scan.Maybe("findings", findings),
		}
}

// WritePage writes a page as an object, in pieces of about size bytes. Each piece is valid until
// the next one. With bare, entries have no values. Only one piece is in memory at a time. The error
// is that of write.
func WritePage(p *Page, bare bool, piece int, write func([]byte) error) error {
	one := entry.Entry.AppendJSON
	if bare {
		one = entry.Entry.AppendBare
	}
	head, _, tail := pageFields(p, one)
	b := scan.AppendFields(nil, head...)
	b = append(b[:len(b)-1], `,"entries":[`...)
	for i, e := range p.Entries {
		if i > 0 {
			b = append(b, ',')
		}
		if b = one(e, b); len(b) >= piece {
			if err := write(b); err != nil {
				return err
			}
			b = b[:0]
		}
	}
	b = append(b, "],"...)
	from := len(b)
	b = scan.AppendFields(b, tail...)
	return write(append(b[:from], b[from+1:]...)) // without the opening brace
}

// ReadPage reads a page in the form of WritePage. A page needs a board and a mark.
func ReadPage(data []byte) (*Page, error) {
	p := &Page{}
	head, entries, tail := pageFields(p, nil)
	err := scan.ReadFields(data, value.MaxDepth, append(append(head, entries), tail...)...)
	if err == nil && (p.Board == "" || p.Mark == "") {
		err = refuse.As(value.ErrInvalid, "it has no board or no mark")
	}
	return p, err
}

func nearFields(n *rules.Near) []scan.Field {
	return []scan.Field{scan.Always("name", &n.Name), scan.Always("near", &n.Near), scan.Maybe("by", &n.By)}
}

// AppendNear appends a finding about a name as an object.
func AppendNear(n rules.Near, dst []byte) []byte { return scan.AppendFields(dst, nearFields(&n)...) }

func readNear(r *scan.Reader) (n rules.Near, err error) {
	err = r.Fields(value.MaxDepth, nearFields(&n)...)
	return n, err
}

// resultFields returns the members of a result. replaced holds those of its entry.
func resultFields(r *rules.Result, taken *[]byte, replaced scan.Form) []scan.Field {
	return []scan.Field{scan.Always("changed", &r.Changed), scan.Maybe("taken", taken), scan.Maybe("replaced", replaced)}
}

func appendResult(r rules.Result, dst []byte) []byte {
	var taken []byte
	if !r.Taken.IsZero() {
		taken = r.Taken.AppendJSON(nil)
	}
	replaced := scan.Form{}
	if r.Replaced != nil {
		replaced.Write = r.Replaced.AppendReplaced
	}
	return scan.AppendFields(dst, resultFields(&r, &taken, replaced)...)
}

func readResult(r *scan.Reader) (out rules.Result, err error) {
	var taken []byte
	replaced := scan.Form{Read: func(r *scan.Reader) error {
		e, err := entry.ReadReplaced(r)
		out.Replaced = &e
		return err
	}}
	err = r.Fields(value.MaxDepth, resultFields(&out, &taken, replaced)...)
	if err == nil && taken != nil {
		out.Taken, err = value.ParseAny(taken)
	}
	return out, err
}
