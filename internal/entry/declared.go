package entry

import (
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Declared is a key that an app declared. A place stores it beside the entries, so that it can
// warn a second app that means another key.
type Declared struct {
	Key
	Gone bool      // in a line of the file: the declaration is withdrawn
	Rest scan.Rest // members that a later version added
}

// A Key is what a declaration says of a key.
type Key struct {
	Name     string
	Kind     value.Kind
	Default  value.Value // the zero Value for a sealed key and for a family
	About    string
	Min, Max value.Value // the zero Value means no bound
	Keep     int         // 0 means no bound
	Choices  []string    // the allowed texts; empty means any
	Family   bool        // it covers Name/ and anything, for example the records of a collection
	By       string      // the writer that declared it, on a board
}

// ID distinguishes declarations: the name, and for a family the name and a slash. A family and a plain
// key of one name are separate.
func (d Declared) ID() string {
	if d.Family {
		return d.Name + "/"
	}
	return d.Name
}

// SameRules reports whether two declarations are of one key and have the same rules.
func (d Declared) SameRules(e Declared) bool {
	d.About, d.By = e.About, e.By
	return d.Equal(e)
}

// Says describes the kind of the entries in words.
func (d Declared) Says() string {
	if d.Family {
		return "records of kind " + d.Kind.String()
	}
	return d.Kind.String()
}

// Check returns an error that wraps value.ErrInvalid if a declaration from outside is invalid.
func (d Declared) Check() error {
	if err := CheckName(d.Name); err != nil {
		return err
	}
	bad := func(format string, args ...any) error {
		return refuse.As(value.ErrInvalid, "the key "+scan.Quote(d.Name)+" "+format, args...)
	}
	rules := d
	rules.Default = value.Value{}
	switch {
	case d.Gone:
		return bad("says that it is gone; DELETE withdraws one")
	case d.Kind == value.KindSealed:
		return bad("is sealed, and only a device keeps what is sealed")
	case d.Min.IsZero() != d.Max.IsZero():
		return bad("has one bound; it takes min and max")
	case !d.Min.IsZero() && !d.Kind.Number():
		return bad("has bounds, and is no number")
	case d.Keep < 0 || d.Keep > 0 && d.Kind != value.KindList:
		return bad("keeps %d items; keep applies to a list, from 1 on", d.Keep)
	case len(d.Choices) > 0 && d.Kind != value.KindText:
		return bad("has choices, and is no text")
	case len(d.Rest) > 0:
		return bad("has members that this server doesn't know: %s", strings.TrimPrefix(string(d.Rest), ","))
	}
	if !d.Min.IsZero() {
		if order, ok := value.Compare(d.Min, d.Max); !ok || order > 0 {
			return bad("is declared from %s to %s, which nothing is", d.Min, d.Max)
		}
	}
	if err := rules.JudgeWhole(d.Default); err != nil {
		return bad("can't have the default %s: %v", d.Default, err)
	}
	return nil
}

// Equal reports whether two declarations are equal, as far as this code knows their members.
func (d Declared) Equal(e Declared) bool {
	return d.Name == e.Name && d.Kind == e.Kind && d.About == e.About && d.Keep == e.Keep && d.Family == e.Family && d.Gone == e.Gone && slices.Equal(d.Choices, e.Choices) &&
		value.Equal(d.Default, e.Default) && value.Equal(d.Min, e.Min) && value.Equal(d.Max, e.Max)
}

// AppendJSON appends the declaration as an object without empty members.
func (d Declared) AppendJSON(dst []byte) []byte {
	var raw rawDeclared
	for i, v := range d.values() {
		if !v.IsZero() {
			raw.values[i] = v.AppendJSON(nil)
		}
	}
	return scan.AppendFields(dst, d.fields(&raw)...)
}

// rawDeclared holds members that are read before the kind is known.
type rawDeclared struct {
	values [3][]byte // as Declared.values
	keep   int64
}

func (d *Declared) values() []*value.Value { return []*value.Value{&d.Default, &d.Min, &d.Max} }

func (d *Declared) fields(raw *rawDeclared) []scan.Field {
	if d.Keep > 0 {
		raw.keep = int64(d.Keep)
	}
	return []scan.Field{
		scan.Always("name", &d.Name), scan.Always("kind", kindForm(&d.Kind)), scan.Maybe("default", &raw.values[0]), scan.Maybe("min", &raw.values[1]),
		scan.Maybe("max", &raw.values[2]), scan.Maybe("about", &d.About), scan.Maybe("keep", &raw.keep), scan.Maybe("choices", choicesForm(&d.Choices)), scan.Maybe("family", &d.Family), scan.Maybe("by", &d.By), scan.Maybe("gone", &d.Gone), scan.Others(&d.Rest),
	}
}

func choicesForm(choices *[]string) scan.Form {
	f := scan.List(choices, (*scan.Reader).String, func(s string, dst []byte) []byte { return scan.AppendString(dst, s) })
	if len(*choices) == 0 {
		f.Write = nil
	}
	return f
}

// MarshalJSON returns the form of AppendJSON.
func (d Declared) MarshalJSON() ([]byte, error) { return d.AppendJSON(nil), nil }

// ReadDeclared reads a declaration as AppendJSON writes it.
func ReadDeclared(r *scan.Reader) (d Declared, err error) {
	var raw rawDeclared
	err = r.Fields(value.MaxDepth, d.fields(&raw)...)
	d.Keep = int(raw.keep)
	for i, v := range d.values() {
		if err == nil && raw.values[i] != nil {
			*v, err = value.Parse(d.Kind, raw.values[i])
		}
	}
	if err == nil && (d.Name == "" || d.Kind == value.KindNone) {
		err = r.Errorf("a declared key without a name or a kind, which ends")
	}
	return d, err
}

// DeclaredFor returns the key that covers a name: the key of that name, or the nearest family. find
// returns the key of an ID. If there is none, the result has no kind.
func DeclaredFor(name string, find func(id string) (Declared, bool)) Declared {
	if d, ok := find(name); ok {
		return d
	}
	if _, ok := find(name + "/"); ok { // this name holds the newest number of the family's records
		return Declared{Key: Key{Name: name, Kind: value.KindInt}}
	}
	for of := range Families(name) {
		if of == name {
			continue
		}
		for _, id := range []string{of + "/", of} { // a key also covers what At makes of it
			if d, ok := find(id); ok {
				return d
			}
		}
	}
	return Declared{Key: Key{Name: name}}
}

// Among returns a find function for DeclaredFor.
func Among(keys []Declared) func(name string) (Declared, bool) {
	named := make(map[string]Declared, len(keys))
	for _, k := range keys {
		named[k.ID()] = k
	}
	return func(id string) (k Declared, found bool) { k, found = named[id]; return k, found }
}
