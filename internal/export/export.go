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

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Format is how entries stand in a file.
type Format int

const (
	JSON  Format = iota // {"place":…,"version":…,"entries":[…]}
	Lines               // an entry a line
	CSV                 // name,kind,value,version,updated,by
)

// FormatOf tells the format by a file's ending.
func FormatOf(file string) (Format, error) {
	switch ending := strings.ToLower(filepath.Ext(file)); ending {
	case ".json":
		return JSON, nil
	case ".jsonl", ".ndjson":
		return Lines, nil
	case ".csv":
		return CSV, nil
	default:
		return 0, fmt.Errorf("the file %s must end in .json, .jsonl or .csv, which says what stands in it", scan.Quote(file))
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
				return fmt.Errorf("CSV can't hold %s as it is: readers take the CR LF in it for LF; export to .json or .jsonl", e.Name)
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

// Decode reads entries in a format. Errors say which entry, line or row is wrong.
func (f Format) Decode(r io.Reader) (entries []entry.Entry, err error) {
	switch f {
	case JSON:
		entries, err = decodeJSON(r)
	case Lines:
		entries, err = decodeLines(bufio.NewReader(r))
	case CSV:
		entries, err = decodeCSV(csv.NewReader(r))
	}
	if err != nil {
		return nil, err
	}
	return checked(entries)
}

// decodeJSON reads an object whose member entries is a list of them.
func decodeJSON(r io.Reader) (out []entry.Entry, err error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	found := false
	read := func(r *scan.Reader) (e entry.Entry, err error) {
		if e, err = entry.Read(r); err != nil {
			err = fmt.Errorf("entry %d: %w", len(out)+1, err)
		}
		return e, err
	}
	list := scan.List(&out, read, nil)
	err = scan.ReadFields(data, value.MaxDepth+3, scan.Always("entries", scan.Form{Read: func(r *scan.Reader) error { found = true; return list.Read(r) }}))
	if err == nil && !found {
		err = fmt.Errorf(`it has no member "entries", with a list of them, as export writes it`)
	}
	return out, err
}

// decodeLines reads an entry a line.
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

// decodeCSV reads an entry a row, behind a row of the columns' names.
func decodeCSV(r *csv.Reader) (out []entry.Entry, err error) {
	head, err := r.Read()
	if err != nil && err != io.EOF {
		return nil, err
	}
	if len(head) < 3 || !slices.Equal(head[:3], csvHead[:3]) {
		return nil, fmt.Errorf("the first row must begin with name,kind,value")
	}
	for number := 2; ; number++ {
		row, err := r.Read()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		kind, err := value.ParseKind(row[1])
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", number, err)
		}
		v, err := value.FromTyped(kind, row[2])
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", number, err)
		}
		out = append(out, entry.Entry{Name: row[0], Value: v})
	}
}

// checked puts entries in the order of their names, and refuses those that
// can't be.
func checked(entries []entry.Entry) ([]entry.Entry, error) {
	slices.SortFunc(entries, func(a, b entry.Entry) int { return strings.Compare(a.Name, b.Name) })
	for i, e := range entries {
		if err := entry.CheckName(e.Name); err != nil {
			return nil, err
		}
		if err := e.Value.Check(); err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name, err)
		}
		if i > 0 && entries[i-1].Name == e.Name {
			return nil, fmt.Errorf("%s stands twice", scan.Quote(e.Name))
		}
	}
	return entries, nil
}
