// Package export writes entries to files and reads them: JSON, JSON Lines and
// CSV.
package export

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Format is the format of a file of entries.
type Format int

const (
	JSON  Format = iota // {"place":…,"version":…,"entries":[…]}
	Lines               // one entry per line
	CSV                 // name,kind,value,version,updated,by
)

// FormatOf returns the format for a file's extension.
func FormatOf(file string) (Format, error) {
	switch ending := strings.ToLower(filepath.Ext(file)); ending {
	case ".json":
		return JSON, nil
	case ".jsonl", ".ndjson":
		return Lines, nil
	case ".csv":
		return CSV, nil
	default:
		return 0, fmt.Errorf("the file %s must end in .json, .jsonl or .csv, which selects the format", scan.Quote(file))
	}
}

var csvHead = []string{"name", "kind", "value", "version", "updated", "by"}

// Encode writes entries in a format.
func (f Format) Encode(w io.Writer, l place.Listing) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	switch f {
	case Lines:
		for _, e := range l.Entries {
			if err := enc.Encode(e); err != nil {
				return err
			}
		}
		return nil
	case CSV:
		c := csv.NewWriter(w)
		rows := [][]string{csvHead}
		for _, e := range l.Entries {
			if s, _ := e.Value.AsText(); strings.Contains(s, "\r\n") {
				return fmt.Errorf("CSV can't hold %s unchanged: readers convert the CR LF in it to LF; export to .json or .jsonl", e.Name)
			}
			rows = append(rows, []string{e.Name, e.Value.Kind().String(), e.Value.String(), fmt.Sprint(e.Version), entry.FormatTime(e.Updated), e.By})
		}
		return c.WriteAll(rows)
	}
	enc.SetIndent("", "  ")
	if l.Entries == nil {
		l.Entries = []entry.Entry{}
	}
	return enc.Encode(map[string]any{"place": l.Place, "version": l.Version, "entries": l.Entries})
}

// A Put is the value for a name: an op with a kind, or without one, so that the declared or stored
// kind applies.
type Put struct {
	Name string
	Op   value.Op
}

func (p Put) known(v value.Value) Put {
	p.Op = value.Op{Verb: value.Put, Operand: v, Kind: v.Kind()}
	return p
}

// Puts returns the puts of entries.
func Puts(entries []entry.Entry) []Put {
	out := make([]Put, len(entries))
	for i, e := range entries {
		out[i] = Put{Name: e.Name}.known(e.Value)
	}
	return out
}

// byteOrderMark is what spreadsheets write before UTF-8.
const byteOrderMark = "\ufeff"

// Decode reads a file in a format: the output of Encode; or, in JSON, an object with a member per
// entry; or, in CSV, a table of the columns name and value. The last two have no kinds. Errors name
// the entry, line or row.
func (f Format) Decode(r io.Reader) (puts []Put, err error) {
	var entries []entry.Entry
	text := bufio.NewReader(r)
	if mark, _ := text.Peek(len(byteOrderMark)); string(mark) == byteOrderMark {
		_, _ = text.Discard(len(mark))
	}
	switch f {
	case JSON:
		puts, err = decodeJSON(text)
	case Lines:
		entries, err = decodeLines(text)
		puts = Puts(entries)
	case CSV:
		puts, err = decodeCSV(csv.NewReader(text))
	}
	if err != nil {
		return nil, err
	}
	return checked(puts)
}

// decodeJSON reads an object whose member entries is a list of entries, or an object with a member
// per entry.
func decodeJSON(r io.Reader) (out []Put, err error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	var list []byte
	if err := scan.ReadFields(data, value.MaxDepth+3, scan.Maybe("entries", &list)); err != nil {
		return nil, err
	}
	if bytes.HasPrefix(list, []byte("[")) {
		entries, err := decodeEntries(data)
		return Puts(entries), err
	}
	object := scan.New(data)
	err = object.Object(func(name []byte) error {
		p := Put{Name: string(name)}
		raw, err := object.Raw(value.MaxDepth)
		p.Op = value.Op{Verb: value.Put, Form: value.FromJSON, Raw: string(raw)}
		out = append(out, p)
		return err
	})
	return out, err
}

func decodeEntries(data []byte) (out []entry.Entry, err error) {
	read := func(r *scan.Reader) (e entry.Entry, err error) {
		if e, err = entry.Read(r); err != nil {
			err = fmt.Errorf("entry %d: %w", len(out)+1, err)
		}
		return e, err
	}
	err = scan.ReadFields(data, value.MaxDepth+3, scan.Always("entries", scan.List(&out, read, nil)))
	return out, err
}

// decodeLines reads one entry per line.
func decodeLines(r *bufio.Reader) (out []entry.Entry, err error) {
	for number := 1; ; number++ {
		line, end := r.ReadBytes('\n')
		if end != nil && end != io.EOF {
			return nil, end
		}
		if len(bytes.TrimSpace(line)) > 0 {
			var e entry.Entry
			if err := json.Unmarshal(line, &e); err != nil {
				return nil, fmt.Errorf("line %d: %w", number, err)
			}
			out = append(out, e)
		}
		if end == io.EOF {
			return out, nil
		}
	}
}

// decodeCSV reads one entry per row, after a row of column names.
func decodeCSV(r *csv.Reader) (out []Put, err error) {
	head, err := r.Read()
	if err != nil && err != io.EOF {
		return nil, err
	}
	plain := slices.Equal(head, []string{"name", "value"})
	if !plain && (len(head) < 3 || !slices.Equal(head[:3], csvHead[:3])) {
		return nil, fmt.Errorf("the first row must begin with name,kind,value, or be name,value")
	}
	for number := 2; ; number++ {
		row, err := r.Read()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if plain {
			out = append(out, Put{row[0], value.Op{Verb: value.Put, Form: value.AsTyped, Raw: row[1]}})
			continue
		}
		kind, err := value.ParseKind(row[1])
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", number, err)
		}
		v, err := value.FromTyped(kind, row[2])
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", number, err)
		}
		out = append(out, Put{Name: row[0]}.known(v))
	}
}

// checked returns puts in order of their names, and refuses invalid entries.
func checked(puts []Put) ([]Put, error) {
	slices.SortStableFunc(puts, func(a, b Put) int { return strings.Compare(a.Name, b.Name) })
	for i, p := range puts {
		if err := entry.CheckName(p.Name); err != nil {
			return nil, err
		}
		if p.Op.Form == value.Known {
			if err := p.Op.Operand.Check(); err != nil {
				return nil, fmt.Errorf("%s: %w", p.Name, err)
			}
		}
		if i > 0 && puts[i-1].Name == p.Name {
			return nil, fmt.Errorf("%s occurs twice", scan.Quote(p.Name))
		}
	}
	return puts, nil
}
