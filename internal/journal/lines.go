package journal

import (
	"bytes"
	"errors"
)

// Lines is the position in a journal that is not in a file. It is a value: a call that fails leaves
// the caller's Lines unchanged.
type Lines struct {
	header *Header
	cur    cursor
}

// Image returns the bytes that a file with these lines would hold.
func Image(h Header, lines []byte) []byte { return append(h.append(nil), lines...) }

// HeaderOf reads the header in the bytes of a file. The error is a *DamageError or a *NewerError.
func HeaderOf(image []byte) (Header, error) {
	line, _, found := bytes.Cut(image, []byte("\n"))
	if !found {
		return Header{}, &DamageError{Line: 1, Reason: "it has no end"}
	}
	header, err := parseHeader(line)
	if err != nil && !errors.As(err, new(*NewerError)) {
		err = &DamageError{Line: 1, Reason: err.Error()}
	}
	return header, err
}

// ReadImage reads the bytes of a file from the start. All lines must count. The errors are those of
// HeaderOf.
func ReadImage(data []byte, c Consumer) (Lines, error) {
	header, err := HeaderOf(data)
	if err != nil {
		return Lines{}, err
	}
	end := bytes.IndexByte(data, '\n')
	r := Lines{header: &header, cur: cursor{end: int64(end) + 1, newest: header.End}}
	if header.Lines == 0 {
		r.cur.last = header.Base
	}
	if e, ok := c.(Expecter); ok {
		e.Expect(len(data))
	}
	return r.More(data[end+1:], c)
}

// More reads further lines. All of them must count.
func (r Lines) More(data []byte, c Consumer) (Lines, error) {
	_, tail, err := readLines(*r.header, &r.cur, data, c)
	if err == nil && tail != nil {
		err = &DamageError{Line: tail.Line, Offset: tail.Offset, Reason: tail.Reason}
	}
	return r, err
}

// Header returns the header.
func (r Lines) Header() *Header { return r.header }

// Version returns the version of the newest commit.
func (r Lines) Version() int64 { return r.cur.last }

// Newest returns the End of the newest commit.
func (r Lines) Newest() End { return r.cur.newest }

// Advance records that n more lines, up to version, count.
func (r Lines) Advance(lines []byte, n int, version int64) Lines {
	r.cur.end += int64(len(lines))
	r.cur.line += int64(n)
	r.cur.last, r.cur.newest = version, EndOf(lines)
	return r
}

// Replaced returns the Lines of a journal of size bytes that replaces this one at the same commit, with
// n lines after its header.
func (r Lines) Replaced(header *Header, size int64, n int, version int64, newest End) Lines {
	r.header = header
	r.cur.end, r.cur.line, r.cur.last, r.cur.newest = size, int64(n), version, newest
	return r
}
