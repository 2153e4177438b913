package wire

import (
	"strconv"

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

// Keys is what is declared on a board; as the answer to a declaration, with what the
// app should look at.
type Keys struct {
	Board    string
	Version  int64
	Mark     string
	Closed   bool // no other names can be written
	Keys     []entry.Declared
	Declared bool // it answers a declaration
	Findings []entry.Finding
}

func (k *Keys) fields() []scan.Field {
	findings := scan.List(&k.Findings, entry.ReadFinding, entry.Finding.AppendJSON)
	if !k.Declared {
		findings.Write = nil
	}
	return []scan.Field{
		scan.Always("board", &k.Board), scan.Always("version", &k.Version), scan.Always("mark", &k.Mark), scan.Always("closed", &k.Closed),
		scan.Always("keys", scan.List(&k.Keys, entry.ReadDeclared, entry.Declared.AppendJSON)), scan.Maybe("findings", findings),
	}
}

// AppendJSON appends the keys as an object.
func (k *Keys) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, k.fields()...) }

// ReadKeys reads keys as AppendJSON writes them.
func ReadKeys(data []byte) (*Keys, error) {
	k := &Keys{}
	err := scan.ReadFields(data, value.MaxDepth, k.fields()...)
	if err == nil && k.Board == "" {
		err = refuse.As(value.ErrInvalid, "it has no board")
	}
	return k, err
}

// MaxKeys is how many keys one declaration has at most.
const MaxKeys = 1000

// AppendDeclaration appends the body of a declaration.
func AppendDeclaration(dst []byte, d rules.Declaration) []byte {
	fields := []scan.Field{scan.Always("keys", scan.List(&d.Keys, nil, entry.Declared.AppendJSON)), scan.Maybe("change", &d.Change)}
	if d.Closed != nil {
		fields = append(fields, scan.Always("closed", d.Closed))
	}
	return scan.AppendFields(dst, fields...)
}

// ReadDeclaration reads the body of a declaration, strictly. The error wraps
// value.ErrInvalid.
func ReadDeclaration(data []byte) (d rules.Declaration, err error) {
	r := scan.New(data)
	err = r.Object(func(member []byte) (err error) {
		switch string(member) {
		case "keys":
			return r.Array(func() error {
				k, err := entry.ReadDeclared(r)
				d.Keys = append(d.Keys, k)
				return err
			})
		case "change":
			d.Change, err = r.Bool()
		case "closed":
			d.Closed = new(bool)
			*d.Closed, err = r.Bool()
		default:
			err = refuse.As(value.ErrInvalid, "there is no %s in a declaration; it takes keys, change, closed", scan.Quote(string(member)))
		}
		return err
	})
	if err == nil {
		err = r.End()
	}
	switch {
	case err != nil:
		return d, refuse.As(value.ErrInvalid, `the body is no declaration such as {"keys":[{"name":"tank/litres","kind":"int","default":0}]}: %v`, err)
	case len(d.Keys) > MaxKeys:
		return d, refuse.As(value.ErrInvalid, "the declaration has %d keys, and %d is the most", len(d.Keys), MaxKeys)
	case d.Keys == nil && d.Closed == nil:
		return d, refuse.As(value.ErrInvalid, `the declaration says nothing; it takes "keys", or "closed"`)
	}
	return d, nil
}

// Facts are what there is to know of a board at present.
type Facts struct {
	Board    string
	Version  int64
	Mark     string
	Exists   bool
	Entries  int64
	Bytes    int64 // of names and values
	Keys     int64 // declared
	Closed   bool
	Watchers int64   // streams and waiting calls
	Requests int64   // in the last minute
	May      string  // what the caller may do
	Near     float64 // how much of the fullest limit is used, from 0 to 1
	Room     int64   // for how many more phones that poll at their fastest
	MaxNames int64
	MaxBytes int64
	MaxValue int64
	MaxRate  int64 // requests a second
}

func (f *Facts) fields() []scan.Field {
	limits := func(fields ...scan.Field) scan.Form {
		return scan.Form{
			Read:  func(r *scan.Reader) error { return r.Fields(value.MaxDepth, fields...) },
			Write: func(dst []byte) []byte { return scan.AppendFields(dst, fields...) },
		}
	}
	near := scan.Form{
		Read: func(r *scan.Reader) error {
			literal, _, err := r.Number()
			if err == nil {
				f.Near, err = strconv.ParseFloat(string(literal), 64)
			}
			return err
		},
		Write: func(dst []byte) []byte { return strconv.AppendFloat(dst, f.Near, 'f', 3, 64) },
	}
	return []scan.Field{
		scan.Always("board", &f.Board), scan.Always("version", &f.Version), scan.Always("mark", &f.Mark), scan.Always("exists", &f.Exists),
		scan.Always("entries", &f.Entries), scan.Always("bytes", &f.Bytes), scan.Always("keys", &f.Keys), scan.Always("closed", &f.Closed),
		scan.Always("watchers", &f.Watchers), scan.Always("requests", &f.Requests), scan.Always("room", &f.Room), scan.Always("near", near), scan.Always("may", &f.May),
		scan.Always("limits", limits(scan.Always("names", &f.MaxNames), scan.Always("bytes", &f.MaxBytes), scan.Always("value", &f.MaxValue), scan.Always("requests", &f.MaxRate))),
	}
}

// AppendJSON appends the facts as an object.
func (f *Facts) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, f.fields()...) }

// ReadFacts reads facts as AppendJSON writes them.
func ReadFacts(data []byte) (*Facts, error) {
	f := &Facts{}
	err := scan.ReadFields(data, value.MaxDepth, f.fields()...)
	if err == nil && f.Board == "" {
		err = refuse.As(value.ErrInvalid, "it has no board")
	}
	return f, err
}

// ReadBoardName reads the body by which a board is made, strictly.
func ReadBoardName(data []byte) (name string, err error) {
	r := scan.New(data)
	err = r.Object(func(member []byte) (err error) {
		if string(member) != "board" {
			return refuse.As(value.ErrInvalid, "there is no %s in it", scan.Quote(string(member)))
		}
		name, err = r.String()
		return err
	})
	if err == nil {
		err = r.End()
	}
	if err != nil || name == "" {
		return "", refuse.As(value.ErrInvalid, `the body must be {"board":NAME}: %v`, err)
	}
	return name, nil
}
