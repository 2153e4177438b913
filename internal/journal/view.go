package journal

import (
	"bytes"
	"fmt"
	"os"
)

// A View is the part of a file that counts at one moment. It is read without a
// lock and holds nobody up: what it has open stays as it is, since a file is only
// ever appended to or replaced.
type View struct {
	handle  Handle
	header  *Header
	end     int64
	commits int64
	version int64
}

// View gives the part that counts now. The File must have caught up: a file
// that was replaced meanwhile is an error.
func (f *File) View() (*View, error) {
	h, err := f.disk.OpenFile(f.path, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	now, err := h.Look()
	if err == nil && now.ID != f.id {
		err = fmt.Errorf("%w: %s is being replaced; try again", ErrBusy, f.path)
	}
	if err != nil {
		h.Close()
		return nil, err
	}
	return &View{h, f.header, f.cursor.end, f.cursor.commits, max(f.cursor.last, f.header.Base)}, nil
}

// Close closes the view.
func (v *View) Close() error { return v.handle.Close() }

// Header is that of the file.
func (v *View) Header() *Header { return v.header }

// Version is the newest that counts.
func (v *View) Version() int64 { return v.version }

// Read gives all lines that count to c, from the first.
func (v *View) Read(c Consumer) error {
	data, err := readFrom(v.handle, 0)
	if err != nil {
		return err
	}
	data = data[:min(v.end, int64(len(data)))]
	start := bytes.IndexByte(data, '\n') + 1
	cur := cursor{end: int64(start)}
	if v.header.Lines == 0 {
		cur.last = v.header.Base
	}
	_, _, err = readLines(*v.header, &cur, data[start:], c)
	return err
}

// readFirst is how much of the commits is read at first.
const readFirst = 64 << 10

// Commits gives the newest lines after those that hold the state at the base,
// as they stand: more than number, and no more than about most bytes of them;
// or all, where there are no others.
func (v *View) Commits(most int64, number int) (lines []byte, all bool, err error) {
	for n := int64(readFirst); ; n *= 4 {
		from := max(v.end-min(n, most), v.commits)
		all = from == v.commits
		data := make([]byte, v.end-from)
		if got, err := v.handle.ReadAt(data, from); got < len(data) {
			return nil, false, err
		}
		if !all { // it may begin in the middle of a line
			data = data[bytes.IndexByte(data, '\n')+1:]
		}
		if all || n >= most || bytes.Count(data, newline) > number {
			return data, all, nil
		}
	}
}

var newline = []byte("\n")
