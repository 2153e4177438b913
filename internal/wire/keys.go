package wire

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Keys are the declared keys of a board. As the answer to a declaration they include findings for
// the app.
type Keys struct {
	Board    string
	Version  int64
	Mark     string
	Closed   bool // other names can't be written
	Keys     []entry.Declared
	Declared bool // it answers a declaration
	Findings []entry.Finding
	Code     string // for one name, in the language that the request asks for
}

func (k *Keys) fields() []scan.Field {
	findings := scan.List(&k.Findings, entry.ReadFinding, entry.Finding.AppendJSON)
	if !k.Declared {
		findings.Write = nil
	}
	return []scan.Field{
		scan.Always("board", &k.Board), scan.Always("version", &k.Version), scan.Always("mark", &k.Mark), scan.Always("closed", &k.Closed),
		scan.Always("keys", scan.List(&k.Keys, entry.ReadDeclared, entry.Declared.AppendJSON)), scan.Maybe("findings", findings), scan.Maybe("code", &k.Code),
	}
}

// AppendJSON appends the keys as an object.
func (k *Keys) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, k.fields()...) }

// ReadKeys reads keys as AppendJSON writes them.
func ReadKeys(data []byte) (*Keys, error) {
	k := &Keys{}
	err := scan.ReadFields(data, value.MaxDepth, k.fields()...)
	if err == nil && k.Board == "" {
		err = refuse.As(value.ErrInvalid, "it names no board")
	}
	return k, err
}

// MaxKeys is the maximum number of keys of one declaration.
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
			err = refuse.As(value.ErrInvalid, "a declaration has no member %s; it has keys, change, closed", scan.Quote(string(member)))
		}
		return err
	})
	if err == nil {
		err = r.End()
	}
	switch {
	case err != nil:
		return d, refuse.As(value.ErrInvalid, `the body is not a declaration such as {"keys":[{"name":"tank/litres","kind":"int","default":0}]}: %v`, err)
	case len(d.Keys) > MaxKeys:
		return d, refuse.As(value.ErrInvalid, "the declaration has %d keys, and the limit is %d", len(d.Keys), MaxKeys)
	case d.Keys == nil && d.Closed == nil:
		return d, refuse.As(value.ErrInvalid, `the declaration is empty; it needs "keys" or "closed"`)
	}
	return d, nil
}
