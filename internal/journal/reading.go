package journal

import "io"

// A Reading is the result of reading a file. It takes effect with Adopt; until then the File is
// unchanged.
type Reading struct {
	position
	Taken   int   // the number of lines that counted
	Tail    *Tail // the rest after them; nil means none
	opened  bool  // the handle was opened for this reading
	adopted bool  // the File owns the handle now
	size    int64 // of the whole file
}

// Version returns the version of the last line that counts.
func (r *Reading) Version() int64 { return r.cursor.last }

// Close releases a Reading that was not adopted.
func (r *Reading) Close() {
	if r != nil && r.opened && !r.adopted {
		r.handle.Close()
	}
}

// Bytes returns the whole file.
func (r *Reading) Bytes() ([]byte, error) { return readFrom(r.handle, 0) }

// Cut removes the tail and syncs. The lock must be held.
func (r *Reading) Cut() error {
	r.Tail = nil
	return cutAt(r.handle, r.cursor.end)
}

func cutAt(h Handle, end int64) error {
	if err := h.Truncate(end); err != nil {
		return err
	}
	return h.Sync()
}

func readFrom(h Handle, offset int64) ([]byte, error) {
	now, err := h.Look()
	if err != nil {
		return nil, err
	}
	return readInto(make([]byte, max(now.Size-offset, 0)), h, offset)
}

// readInto reads from an offset as much as fits into data.
func readInto(data []byte, h Handle, from int64) ([]byte, error) {
	n, err := h.ReadAt(data, from)
	if err == io.EOF {
		err = nil
	}
	return data[:n], err
}
