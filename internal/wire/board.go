package wire

import (
	"strconv"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Summary describes a board without loading it.
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

// MarshalJSON returns the form of AppendJSON.
func (s Summary) MarshalJSON() ([]byte, error) { return s.AppendJSON(nil), nil }

func readSummary(r *scan.Reader) (s Summary, err error) {
	err = r.Fields(value.MaxDepth, s.fields()...)
	return s, err
}

func summaries(boards *[]Summary) scan.Field {
	return scan.Always("boards", scan.List(boards, readSummary, Summary.AppendJSON))
}

// AppendSummaries appends a list of boards as an object.
func AppendSummaries(dst []byte, boards []Summary) []byte {
	return scan.AppendFields(dst, summaries(&boards))
}

// ReadSummaries reads what AppendSummaries writes.
func ReadSummaries(data []byte) (boards []Summary, err error) {
	err = scan.ReadFields(data, value.MaxDepth, summaries(&boards))
	return boards, err
}

// Facts describe the present state of a board.
type Facts struct {
	Board       string
	Version     int64
	Mark        string
	Exists      bool
	Entries     int64
	Bytes       int64 // of names and values
	Keys        int64 // number of declared keys
	Closed      bool
	Watchers    int64   // streams and waiting calls
	Requests    int64   // in the last minute
	May         string  // what the caller may do
	Admin       bool    // the caller is admin
	Label       string  // of the caller's token
	Prefix      string  // the prefix of the caller's token; with one, no counts are reported
	Near        float64 // how much of the fullest limit is used, from 0 to 1
	Servers     int64   // how many servers share the board; each counts requests and watchers by itself; 0 means one server alone
	Room        int64   // for how many more phones that poll at the highest rate
	MaxNames    int64
	MaxBytes    int64
	MaxValue    int64
	MaxRate     int64 // requests a second
	MaxWatchers int64
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
	fields := []scan.Field{
		scan.Always("board", &f.Board), scan.Always("version", &f.Version), scan.Always("mark", &f.Mark), scan.Always("exists", &f.Exists),
		scan.Always("closed", &f.Closed), scan.Always("may", &f.May), scan.Maybe("admin", &f.Admin), scan.Maybe("label", &f.Label), scan.Maybe("prefix", &f.Prefix), scan.Maybe("servers", &f.Servers),
		scan.Always("limits", limits(scan.Always("names", &f.MaxNames), scan.Always("bytes", &f.MaxBytes), scan.Always("value", &f.MaxValue), scan.Always("requests", &f.MaxRate), scan.Always("watchers", &f.MaxWatchers))),
	}
	if f.Prefix == "" {
		fields = append(fields, scan.Always("entries", &f.Entries), scan.Always("bytes", &f.Bytes), scan.Always("keys", &f.Keys),
			scan.Always("watchers", &f.Watchers), scan.Always("requests", &f.Requests), scan.Always("room", &f.Room), scan.Always("near", near))
	}
	return fields
}

// AppendJSON appends the facts as an object.
func (f *Facts) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, f.fields()...) }

// MarshalJSON returns the form of AppendJSON.
func (f *Facts) MarshalJSON() ([]byte, error) { return f.AppendJSON(nil), nil }

// ReadFacts reads facts as AppendJSON writes them.
func ReadFacts(data []byte) (*Facts, error) {
	f := &Facts{}
	err := scan.ReadFields(data, value.MaxDepth, f.fields()...)
	if err == nil && f.Board == "" {
		err = refuse.As(value.ErrInvalid, "it names no board")
	}
	return f, err
}

// AppendBoardName appends the body that creates a board.
func AppendBoardName(dst []byte, board string) []byte {
	return scan.AppendFields(dst, scan.Always("board", &board))
}

// ReadBoardName reads the body that creates a board, strictly.
func ReadBoardName(data []byte) (name string, err error) {
	r := scan.New(data)
	err = r.Object(func(member []byte) (err error) {
		if string(member) != "board" {
			return refuse.As(value.ErrInvalid, "%s is not a member of the body", scan.Quote(string(member)))
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

// Health is what a server says of itself.
type Health struct {
	Status  string
	Warning string // what does not work; empty means nothing
}

// AppendJSON appends the object.
func (h Health) AppendJSON(dst []byte) []byte {
	return scan.AppendFields(dst, scan.Always("status", &h.Status), scan.Maybe("warning", &h.Warning))
}
