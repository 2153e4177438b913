// Package entry declares what devices, boards and commands have in common: an Entry, an Edit of
// one, a Change, the Commit of changes, a Declared key, and the JSON form of each, for files and
// the wire.
package entry

import (
	"time"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// An Entry is a stored entry, written with any key or none.
type Entry struct {
	Name    string
	Value   value.Value // the zero Value means that nothing is stored
	Version int64       // the commit that changed it last
	Updated time.Time   // the time of that commit, by the writer's clock
	By      string      // the writer's name, if it gave one
	From    string      // the writer's instance, on a board
}

// An Author is the name and the instance of a writer.
type Author struct{ By, From string }

// timeLayout is the layout of a commit's time: milliseconds, UTC.
const timeLayout = "2006-01-02T15:04:05.000Z"

// TimeLen is the length of a commit's time in a line.
const TimeLen = len(timeLayout)

// AppendTime appends a commit's time.
func AppendTime(dst []byte, at time.Time) []byte { return at.UTC().AppendFormat(dst, timeLayout) }

// FormatTime returns a commit's time as text.
func FormatTime(at time.Time) string { return at.UTC().Format(timeLayout) }

// ParseTime parses a commit's time with any precision.
func ParseTime(s []byte) (time.Time, error) { return time.Parse(time.RFC3339Nano, string(s)) }

// AppendStored appends an entry of a line: an object of name, kind and value. encoded is the JSON
// form of v, or nil.
func AppendStored(dst []byte, name string, v value.Value, encoded []byte) []byte {
	return append(appendStored(dst, name, v, encoded), '}')
}

func appendStored(dst []byte, name string, v value.Value, encoded []byte) []byte {
	dst = scan.AppendString(append(dst, `{"name":`...), name)
	dst = append(append(append(dst, `,"kind":"`...), v.Kind().String()...), `","value":`...)
	if encoded != nil {
		return append(dst, encoded...)
	}
	return v.AppendJSON(dst)
}

// AppendJSON appends the entry as an object:
//
//	{"name":"tank/litres","kind":"int","value":420,"version":17,"updated":"2026-05-03T09:12:44.123Z","by":"tankwatch","from":"9c1f03ab22d4e6f0"}
func (e Entry) AppendJSON(dst []byte) []byte {
	return e.appendRest(appendStored(dst, e.Name, e.Value, nil))
}

// AppendBare is AppendJSON without the value.
func (e Entry) AppendBare(dst []byte) []byte {
	dst = scan.AppendString(append(dst, `{"name":`...), e.Name)
	dst = append(append(append(dst, `,"kind":"`...), e.Value.Kind().String()...), '"')
	return e.appendRest(dst)
}

func (e Entry) appendRest(dst []byte) []byte {
	dst = value.Int(e.Version).AppendJSON(append(dst, `,"version":`...))
	dst = append(AppendTime(append(dst, `,"updated":"`...), e.Updated), '"')
	if e.By != "" {
		dst = scan.AppendString(append(dst, `,"by":`...), e.By)
	}
	if e.From != "" {
		dst = scan.AppendString(append(dst, `,"from":`...), e.From)
	}
	return append(dst, '}')
}

// AppendReplaced appends an entry that a put replaced: AppendJSON without its name and its writer's
// instance. The value is left out if it is no longer known.
func (e Entry) AppendReplaced(dst []byte) []byte {
	dst = append(dst, '{')
	if !e.Value.IsZero() {
		dst = append(append(append(dst, `"kind":"`...), e.Value.Kind().String()...), `","value":`...)
		dst = append(e.Value.AppendJSON(dst), ',')
	}
	e.From = ""
	from := len(dst)
	dst = e.appendRest(dst)
	return append(dst[:from], dst[from+1:]...) // without the comma
}

// ReadReplaced reads what AppendReplaced writes.
func ReadReplaced(r *scan.Reader) (Entry, error) { return Read(r) }

// JSONLen returns an upper bound of the length of AppendJSON, or AppendBare, that is not much
// larger.
func (e Entry) JSONLen(bare bool) int {
	n := len(`{"name":,"kind":"sealed","value":,"version":9223372036854775807,"updated":"","by":,"from":}`) + TimeLen +
		scan.StringLen(e.Name) + scan.StringLen(e.By) + scan.StringLen(e.From)
	if !bare {
		n += e.Value.JSONLen()
	}
	return n
}

// MarshalJSON returns the form of AppendJSON.
func (e Entry) MarshalJSON() ([]byte, error) { return e.AppendJSON(nil), nil }

// UnmarshalJSON reads the form of AppendJSON and ignores unknown members.
func (e *Entry) UnmarshalJSON(data []byte) (err error) {
	*e, err = scan.Whole(data, Read)
	return err
}

// Read reads an entry as AppendJSON or AppendBare writes it.
func Read(r *scan.Reader) (e Entry, err error) {
	var k value.Kind
	var raw []byte
	err = r.Fields(value.MaxDepth, scan.Maybe("name", &e.Name), scan.Maybe("kind", kindForm(&k)), scan.Maybe("value", &raw), scan.Maybe("version", &e.Version),
		scan.Maybe("updated", timeForm(&e.Updated)), scan.Maybe("by", &e.By), scan.Maybe("from", &e.From))
	switch {
	case err != nil:
		return e, err
	case raw != nil && k == value.KindNone:
		return e, r.Errorf("an entry with a value and no kind ends")
	case raw != nil:
		e.Value, err = value.Parse(k, raw)
	}
	return e, err
}

// ReadKind reads the name of a kind.
func ReadKind(r *scan.Reader) (value.Kind, error) {
	s, err := r.StringBytes()
	if err != nil {
		return value.KindNone, err
	}
	if k := value.KindNamed(s); k != value.KindNone {
		return k, nil
	}
	return value.ParseKind(string(s)) // it returns the error
}

// ReadTime reads a commit's time.
func ReadTime(r *scan.Reader) (time.Time, error) {
	s, err := r.StringBytes()
	if err != nil {
		return time.Time{}, err
	}
	at, err := ParseTime(s)
	if err != nil {
		return at, r.Errorf("%q, which is no time, ends", s)
	}
	return at, nil
}

func kindForm(k *value.Kind) scan.Form {
	f := scan.Form{Read: func(r *scan.Reader) (err error) { *k, err = ReadKind(r); return err }}
	if *k != value.KindNone {
		f.Write = func(dst []byte) []byte { return scan.AppendString(dst, k.String()) }
	}
	return f
}

func timeForm(at *time.Time) scan.Form {
	return scan.Form{
		Read:  func(r *scan.Reader) (err error) { *at, err = ReadTime(r); return err },
		Write: func(dst []byte) []byte { return scan.AppendString(dst, FormatTime(*at)) },
	}
}

// Quoted returns a value for a message: text in quotes, cut after 60 characters.
func Quoted(v value.Value) string {
	if s, ok := v.AsText(); ok {
		return scan.Quote(s)
	}
	s := v.String()
	if r := []rune(s); len(r) > 60 {
		s = string(r[:60]) + "…"
	}
	return s
}
