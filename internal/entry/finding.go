package entry

import "github.com/small-pantry/pantry/internal/scan"

// A Finding is something that somebody should look at.
type Finding struct {
	Code     string // identifies the kind of finding
	Name     string // the entry or the key; empty if the finding is about the place
	Sentence string
}

func (f *Finding) fields() []scan.Field {
	return []scan.Field{scan.Always("code", &f.Code), scan.Always("name", &f.Name), scan.Always("sentence", &f.Sentence)}
}

// AppendJSON appends the finding as an object.
func (f Finding) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, f.fields()...) }

// MarshalJSON returns the form of AppendJSON.
func (f Finding) MarshalJSON() ([]byte, error) { return f.AppendJSON(nil), nil }

// ReadFinding reads a finding as AppendJSON writes it.
func ReadFinding(r *scan.Reader) (f Finding, err error) {
	err = r.Fields(1, f.fields()...)
	return f, err
}
