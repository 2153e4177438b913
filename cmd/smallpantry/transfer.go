package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

// A fileFormat is how entries stand in a file of export and import.
type fileFormat int

const (
	formatJSON  fileFormat = iota // {"place":…,"version":…,"entries":[…]}
	formatLines                   // an entry a line
	formatCSV                     // name,kind,value,version,updated,by
)

// formatOf tells the format by a file's ending.
func formatOf(file string) (fileFormat, error) {
	switch ending := strings.ToLower(filepath.Ext(file)); ending {
	case ".json":
		return formatJSON, nil
	case ".jsonl", ".ndjson":
		return formatLines, nil
	case ".csv":
		return formatCSV, nil
	default:
		return 0, usage("the file %s must end in .json, .jsonl or .csv, which says what stands in it", value.Quote(file))
	}
}

var csvHead = []string{"name", "kind", "value", "version", "updated", "by"}

// encode writes entries in a format.
func (f fileFormat) encode(w io.Writer, l listing) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	switch f {
	case formatLines:
		for _, e := range l.Entries {
			if err := enc.Encode(e); err != nil {
				return err
			}
		}
		return nil
	case formatCSV:
		c := csv.NewWriter(w)
		rows := [][]string{csvHead}
		for _, e := range l.Entries {
			rows = append(rows, []string{e.Name, e.Value.Kind().String(), e.Value.String(), fmt.Sprint(e.Version), e.Updated.Format("2006-01-02T15:04:05.000Z"), e.By})
		}
		return c.WriteAll(rows)
	}
	enc.SetIndent("", "  ")
	return enc.Encode(map[string]any{"place": l.Place, "version": l.Version, "entries": l.Entries})
}

// decode reads entries in a format. Errors say which line or row is wrong.
func (f fileFormat) decode(data []byte) ([]board.Entry, error) {
	var out []board.Entry
	switch f {
	case formatJSON:
		var all struct{ Entries []board.Entry }
		if err := json.Unmarshal(data, &all); err != nil {
			return nil, err
		}
		out = all.Entries
	case formatLines:
		number := 0
		for line := range bytes.Lines(data) {
			number++
			if len(bytes.TrimSpace(line)) == 0 {
				continue
			}
			var e board.Entry
			if err := json.Unmarshal(line, &e); err != nil {
				return nil, fmt.Errorf("line %d: %w", number, err)
			}
			out = append(out, e)
		}
	case formatCSV:
		rows, err := csv.NewReader(bytes.NewReader(data)).ReadAll()
		if err != nil {
			return nil, err
		}
		if len(rows) == 0 || len(rows[0]) < 3 || !slices.Equal(rows[0][:3], csvHead[:3]) {
			return nil, fmt.Errorf("the first row must begin with name,kind,value")
		}
		for i, row := range rows[1:] {
			kind, err := value.ParseKind(row[1])
			if err != nil {
				return nil, fmt.Errorf("row %d: %w", i+2, err)
			}
			v, err := value.FromTyped(kind, row[2])
			if err != nil {
				return nil, fmt.Errorf("row %d: %w", i+2, err)
			}
			out = append(out, board.Entry{Name: row[0], Value: v})
		}
	}
	return checked(out)
}

// checked puts entries in the order of their names, and refuses those that
// can't be.
func checked(entries []board.Entry) ([]board.Entry, error) {
	slices.SortFunc(entries, func(a, b board.Entry) int { return strings.Compare(a.Name, b.Name) })
	for i, e := range entries {
		if err := checkNames(e.Name); err != nil {
			return nil, err
		}
		if err := e.Value.Check(); err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name, err)
		}
		if i > 0 && entries[i-1].Name == e.Name {
			return nil, fmt.Errorf("%s stands twice", value.Quote(e.Name))
		}
	}
	return entries, nil
}

// readFile reads a file, with its progress on a terminal where it is large.
func (a *app) readFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	errs, isFile := a.stderr.(*os.File)
	if info.Size() < 4<<20 || !isFile || !term.IsTerminal(int(errs.Fd())) {
		return io.ReadAll(f)
	}
	bar := progressbar.NewOptions64(info.Size(), progressbar.OptionSetWriter(errs), progressbar.OptionShowBytes(true),
		progressbar.OptionSetDescription("reading "+filepath.Base(path)), progressbar.OptionClearOnFinish())
	return io.ReadAll(io.TeeReader(f, bar))
}

// plan gives the changes that make now hold wanted and, with replace, nothing else.
func plan(now, wanted []board.Entry, replace bool) (changes []board.Change) {
	d := compare(now, wanted)
	for _, e := range d.added {
		changes = append(changes, board.Change{Name: e.Name, New: e.Value})
	}
	changes = append(changes, d.changed...)
	if replace {
		for _, e := range d.gone {
			changes = append(changes, board.Change{Name: e.Name, Old: e.Value})
		}
	}
	return changes
}

// store makes a place hold the entries that are wanted, in one commit, and with
// replace no others; with dry it only tells what that would change.
func (a *app) store(ctx context.Context, where string, wanted []board.Entry, replace, dry bool) error {
	p, err := a.open(where, way{create: !dry})
	if dry && code(err) == exitAbsent {
		return a.printPlan(plan(nil, wanted, replace), 0, dry)
	}
	if err != nil {
		return err
	}
	defer p.Close()
	now, err := p.list(ctx, "")
	if err != nil {
		return err
	}
	changes := plan(now.Entries, wanted, replace)
	version := now.Version
	if len(changes) > 0 && !dry {
		if version, err = p.apply(ctx, changes); err != nil {
			return err
		}
		if replace {
			if err := p.replaced(); err != nil {
				return fmt.Errorf("all is imported, but the file has its old id: %w", err)
			}
		}
	}
	return a.printPlan(changes, version, dry)
}

// printPlan tells what was changed, or would be.
func (a *app) printPlan(changes []board.Change, version int64, dry bool) error {
	if a.json {
		return a.printJSON(map[string]any{"version": version, "dry_run": dry, "changed": changesJSON(changes)})
	}
	for i, c := range changes {
		// A dry run is there to be read; what is done can be read in the log.
		if rest := len(changes) - i; !dry && i >= 20 && rest > 1 {
			fmt.Fprintf(a.stdout, "… and %d more, which the log tells\n", rest)
			break
		}
		fmt.Fprintf(a.stdout, "%s: %s → %s\n", c.Name, withKind(c.Old, c.New), withKind(c.New, c.Old))
	}
	did := "changed"
	if dry {
		did = "would change"
	}
	fmt.Fprintf(a.stdout, "%s %s\n", did, counted(len(changes), "entry", "entries"))
	return nil
}
