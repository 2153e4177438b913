package ledger

import (
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Declared is a key as an app declared it, kept with the entries so that a
// second app can be told when it means another.
type Declared struct {
	Name     string
	Kind     value.Kind
	Default  value.Value // no value where the key has none
	About    string
	Min, Max value.Value // no value where there is no bound
	Keep     int         // 0: a list of any length
	Many     bool        // a collection: the entries are Name/ID
	gone     bool        // the declaration is withdrawn
}

// Equal says whether two declarations say the same.
func (d Declared) Equal(e Declared) bool {
	return d.Name == e.Name && d.Kind == e.Kind && d.About == e.About && d.Keep == e.Keep && d.Many == e.Many && d.gone == e.gone &&
		value.Equal(d.Default, e.Default) && value.Equal(d.Min, e.Min) && value.Equal(d.Max, e.Max)
}

func (d Declared) appendJSON(dst []byte) []byte {
	dst = value.AppendString(append(dst, `{"name":`...), d.Name)
	dst = append(append(append(dst, `,"kind":"`...), d.Kind.String()...), '"')
	for _, m := range [...]struct {
		name string
		v    value.Value
	}{{`,"default":`, d.Default}, {`,"min":`, d.Min}, {`,"max":`, d.Max}} {
		if !m.v.IsZero() {
			dst = m.v.AppendJSON(append(dst, m.name...))
		}
	}
	dst = appendText(dst, `,"about":`, d.About)
	if d.Keep > 0 {
		dst = appendInt(append(dst, `,"keep":`...), int64(d.Keep))
	}
	if d.Many {
		dst = append(dst, `,"many":true`...)
	}
	if d.gone {
		dst = append(dst, `,"gone":true`...)
	}
	return append(dst, '}')
}

func readDeclared(r *scan.Reader) (Declared, error) {
	var d Declared
	raw := map[string][]byte{}
	err := r.Object(func(member []byte) (err error) {
		switch string(member) {
		case "name":
			d.Name, err = r.String()
		case "kind":
			var s string
			if s, err = r.String(); err == nil {
				d.Kind, err = value.ParseKind(s)
			}
		case "about":
			d.About, err = r.String()
		case "keep":
			var n int64
			n, err = r.Int()
			d.Keep = int(n)
		case "many":
			var w string
			w, err = r.Word()
			d.Many = w == "true"
		case "gone":
			var w string
			w, err = r.Word()
			d.gone = w == "true"
		default:
			name := string(member)
			raw[name], err = r.Raw(value.MaxDepth)
		}
		return err
	})
	for name, to := range map[string]*value.Value{"default": &d.Default, "min": &d.Min, "max": &d.Max} {
		if err == nil && raw[name] != nil {
			*to, err = value.Parse(d.Kind, raw[name])
		}
	}
	if err == nil && (d.Name == "" || d.Kind == value.KindNone) {
		err = r.Errorf("a declared key without a name or a kind, which ends")
	}
	return d, err
}
