package journal

import (
	"bytes"
	"errors"
)

// Lines are how far a journal is read that lies elsewhere than in a file. They are a
// value: what fails leaves those before as they were.
type Lines struct {
	header *Header
	cur    cursor
}

// Image is what a file of these lines would hold.
func Image(h Header, lines []byte) []byte { return append(h.append(nil), lines...) }

// HeaderOf reads the header of what a file would hold. The error is a *DamageError or a
// *NewerError.
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

// ReadImage reads what a file would hold from its first byte on, all of which must count.
// The errors are those of HeaderOf.
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

// More reads what comes behind, all of which must count.
func (r Lines) More(data []byte, c Consumer) (Lines, error) {
	_, tail, err := readLines(*r.header, &r.cur, data, c)
	if err == nil && tail != nil {
		err = &DamageError{Line: tail.Line, Offset: tail.Offset, Reason: tail.Reason}
	}
	return r, err
}

// Header is that of the lines.
func (r Lines) Header() *Header { return r.header }

// Version is that of the newest commit.
func (r Lines) Version() int64 { return r.cur.last }

// Newest tells the newest commit apart from every other of its version.
func (r Lines) Newest() End { return r.cur.newest }

// Advance says that lines, n of them up to version, stand behind now.
func (r Lines) Advance(lines []byte, n int, version int64) Lines {
	r.cur.end += int64(len(lines))
	r.cur.line += int64(n)
	r.cur.last, r.cur.newest = version, EndOf(lines)
	return r
}

// Anew are Lines of a journal of so many bytes that was written in place of these, at the
// same commit, with n lines behind its header.
func (r Lines) Anew(header *Header, size int64, n int, version int64, newest End) Lines {
	r.header = header
	r.cur.end, r.cur.line, r.cur.last, r.cur.newest = size, int64(n), version, newest
	return r
}
