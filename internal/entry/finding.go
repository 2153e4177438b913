package entry

import "github.com/small-pantry/pantry/internal/scan"

// A Finding is one thing that somebody should look at.
type Finding struct {
	Code     string // for a program
	Name     string // of the entry or the key; empty where it is about the place
	Sentence string
}

func (f *Finding) fields() []scan.Field {
	return []scan.Field{scan.Always("code", &f.Code), scan.Always("name", &f.Name), scan.Always("sentence", &f.Sentence)}
}

// AppendJSON appends the finding as an object.
func (f Finding) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, f.fields()...) }

// MarshalJSON gives the form of AppendJSON.
func (f Finding) MarshalJSON() ([]byte, error) { return f.AppendJSON(nil), nil }

// ReadFinding reads a finding as AppendJSON writes it.
func ReadFinding(r *scan.Reader) (f Finding, err error) {
	err = r.Fields(1, f.fields()...)
	return f, err
}
