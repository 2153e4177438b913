package wire

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

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
