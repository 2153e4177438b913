package entry

import (
	"time"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Commit is a commit as the place still tells it.
type Commit struct {
	Version int64
	Time    time.Time // by the clock of the writer
	By      string    // the app, where it gave its name
	From    string    // which of its copies, on a board
	Changes []Change
}

// A Change is what a commit did to one entry. No value means that nothing was,
// or is, stored.
type Change struct {
	Name     string
	Old, New value.Value
}

// A Gone is a name that was removed, and the version of the commit that did.
type Gone struct {
	Name    string
	Version int64
}

// AppendJSON appends the change as an object; a side without a value is null,
// and has no kind:
//
//	{"name":"plot","old":"C4","old_kind":"text","new":null}
func (c Change) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	o.Text("name", c.Name)
	side := func(member string, v value.Value) {
		o.Dst = v.AppendJSON(o.Name(member))
		if !v.IsZero() {
			o.Text(member+"_kind", v.Kind().String())
		}
	}
	side("old", c.Old)
	side("new", c.New)
	return o.End()
}

// MarshalJSON gives the form of AppendJSON.
func (c Change) MarshalJSON() ([]byte, error) { return c.AppendJSON(nil), nil }

func readChange(r *scan.Reader) (c Change, err error) {
	var kinds [2]value.Kind
	var raw [2][]byte
	err = r.Fields(value.MaxDepth, scan.To("name", &c.Name), scan.To("old", &raw[0]), scan.To("new", &raw[1]),
		kindField(r, "old_kind", &kinds[0]), kindField(r, "new_kind", &kinds[1]))
	for i, to := range []*value.Value{&c.Old, &c.New} {
		if err == nil && kinds[i] != value.KindNone {
			*to, err = value.Parse(kinds[i], raw[i])
		}
	}
	return c, err
}

// AppendJSON appends the commit as an object:
//
//	{"version":4,"at":"2026-05-03T09:12:44.123Z","by":"plotbook","changes":[…]}
func (c Commit) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	o.Int("version", c.Version)
	o.Text("at", FormatTime(c.Time))
	o.TextIf("by", c.By)
	o.TextIf("from", c.From)
	scan.Array(&o, "changes", c.Changes, func(dst []byte, ch Change) []byte { return ch.AppendJSON(dst) })
	return o.End()
}

// MarshalJSON gives the form of AppendJSON.
func (c Commit) MarshalJSON() ([]byte, error) { return c.AppendJSON(nil), nil }

// ReadCommit reads a commit as AppendJSON writes it.
func ReadCommit(r *scan.Reader) (c Commit, err error) {
	err = r.Fields(value.MaxDepth, scan.To("version", &c.Version), timeField(r, "at", &c.Time), scan.To("by", &c.By), scan.To("from", &c.From),
		scan.To("changes", scan.List(r, &c.Changes, readChange)))
	return c, err
}

// AppendJSON appends the name that is gone, as an object.
func (g Gone) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	o.Text("name", g.Name)
	o.Int("version", g.Version)
	return o.End()
}

// ReadGone reads what AppendJSON writes.
func ReadGone(r *scan.Reader) (g Gone, err error) {
	err = r.Fields(value.MaxDepth, scan.To("name", &g.Name), scan.To("version", &g.Version))
	return g, err
}
