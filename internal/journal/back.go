package journal

import (
	"bytes"
	"io"
)

// The sizes of the pieces in which a journal is read from its end.
const (
	firstPiece = 64 << 10
	mostPiece  = 1 << 20
)

// Back passes the lines that count to each, from the last to the first, until each returns false. It
// reads only as much of the file as that takes. The bytes of a line are valid until each returns.
func (v *View) Back(each func(line []byte) (more bool, err error)) error {
	err := Backward(v.handle, v.end, each)
	if damage, ok := AsDamage(err); ok {
		damage.Path = v.path
	}
	return err
}

// Backward passes the lines in the first end bytes of a journal to each, without the header, from the
// last to the first, until each returns false. The bytes of a line are valid until each returns. The
// error is a *DamageError for a line whose checksum is wrong.
func Backward(r io.ReaderAt, end int64, each func(line []byte) (more bool, err error)) error {
	var rest []byte // the start of a line whose end was in the piece after it
	for size := int64(firstPiece); end > 0; size = min(2*size, mostPiece) {
		from := max(end-size, 0)
		piece := make([]byte, end-from, end-from+int64(len(rest)))
		if n, err := r.ReadAt(piece, from); err != nil && (err != io.EOF || n < len(piece)) {
			return err
		}
		piece = append(piece, rest...)
		for {
			line := bytes.TrimSuffix(piece, []byte("\n"))
			start := bytes.LastIndexByte(line, '\n') + 1
			if start == 0 {
				break // the line starts before this piece, or is the header
			}
			if line = line[start:]; !intact(line) {
				return &DamageError{Offset: from + int64(start), Reason: "its checksum does not fit its bytes"}
			}
			if more, err := each(line); err != nil || !more {
				return err
			}
			piece = piece[:start]
		}
		rest, end = piece, from
	}
	return nil
}
