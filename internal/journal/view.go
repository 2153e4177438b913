package journal

import (
	"bytes"
	"fmt"
	"os"
)

// A View is the part of a file that counts at one moment. It is read without a lock and blocks no
// writer: its open file does not change, since files are only appended to or replaced.
type View struct {
	path    string
	handle  Handle
	header  *Header
	end     int64
	version int64
}

// View returns the part that counts now. The File must be up to date: it is an error if the file
// was replaced meanwhile.
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
	return &View{f.path, h, f.header, f.cursor.end, f.cursor.last}, nil
}

// Close closes the view.
func (v *View) Close() error { return v.handle.Close() }

// Header returns the header of the file.
func (v *View) Header() *Header { return v.header }

// Version returns the newest version that counts.
func (v *View) Version() int64 { return v.version }

// Read passes all lines that count to c, from the first.
func (v *View) Read(c Consumer) error {
	var room []byte
	if lender, ok := c.(Lender); ok {
		room = lender.Lend(int(v.end))
	} else {
		room = make([]byte, v.end)
	}
	data, err := readInto(room, v.handle, 0)
	if err != nil {
		return err
	}
	if e, ok := c.(Expecter); ok {
		e.Expect(len(data))
	}
	start := bytes.IndexByte(data, '\n') + 1
	cur := cursor{end: int64(start)}
	if v.header.Lines == 0 {
		cur.last = v.header.Base
	}
	_, _, err = readLines(*v.header, &cur, data[start:], c)
	if damage, ok := AsDamage(err); ok {
		damage.Path = v.path
	}
	return err
}
