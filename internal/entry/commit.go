package entry

import (
	"time"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Commit is a commit that the place still holds.
type Commit struct {
	Version int64
	Time    time.Time // by the writer's clock
	By      string    // the writer's name, if it gave one
	From    string    // the writer's instance, on a board
	Over    int64     // how many commits it replaces, which end at Version; 0 means that it is one
	Changes []Change
}

// A Change is the effect of a commit on one entry. The zero Value means that nothing was stored.
type Change struct {
	Name     string
	Old, New value.Value
}

// A Gone is a removed name with the version of the commit that removed it.
type Gone struct {
	Name    string
	Version int64
}

// AppendJSON appends the change as an object. A side without a value is null and has no kind:
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

// MarshalJSON returns the form of AppendJSON.
func (c Change) MarshalJSON() ([]byte, error) { return c.AppendJSON(nil), nil }

func readChange(r *scan.Reader) (c Change, err error) {
	var kinds [2]value.Kind
	var raw [2][]byte
	err = r.Fields(value.MaxDepth, scan.Maybe("name", &c.Name), scan.Maybe("old", &raw[0]), scan.Maybe("new", &raw[1]),
		scan.Maybe("old_kind", kindForm(&kinds[0])), scan.Maybe("new_kind", kindForm(&kinds[1])))
	for i, to := range []*value.Value{&c.Old, &c.New} {
		if err == nil && kinds[i] != value.KindNone {
			*to, err = value.Parse(kinds[i], raw[i])
		}
	}
	return c, err
}

func (c *Commit) fields() []scan.Field {
	return []scan.Field{
		scan.Always("version", &c.Version), scan.Always("at", timeForm(&c.Time)), scan.Maybe("by", &c.By), scan.Maybe("from", &c.From), scan.Maybe("over", &c.Over),
		scan.Always("changes", scan.List(&c.Changes, readChange, Change.AppendJSON)),
	}
}

// AppendJSON appends the commit as an object:
//
//	{"version":4,"at":"2026-05-03T09:12:44.123Z","by":"plotbook","changes":[…]}
func (c Commit) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, c.fields()...) }

// MarshalJSON returns the form of AppendJSON.
func (c Commit) MarshalJSON() ([]byte, error) { return c.AppendJSON(nil), nil }

// ReadCommit reads a commit as AppendJSON writes it.
func ReadCommit(r *scan.Reader) (c Commit, err error) {
	err = r.Fields(value.MaxDepth, c.fields()...)
	return c, err
}

// AppendJSON appends the removed name as an object.
func (g Gone) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, g.fields()...) }

// ReadGone reads what AppendJSON writes.
func ReadGone(r *scan.Reader) (g Gone, err error) {
	err = r.Fields(value.MaxDepth, g.fields()...)
	return g, err
}

func (g *Gone) fields() []scan.Field {
	return []scan.Field{scan.Always("name", &g.Name), scan.Always("version", &g.Version)}
}
