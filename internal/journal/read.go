package journal

import (
	"bytes"
	"errors"
	"fmt"
)

// A Mark is what the journal must know of a line.
type Mark struct {
	Version int64
	Synced  int64 // up to which version all was synced when it was written
}

// A Consumer understands the lines. Decode reads one, with its crc, and says
// what its mark is; Accept takes the line that was decoded last into the
// state. A line may be decoded and not accepted.
type Consumer interface {
	Decode(line []byte) (Mark, error)
	Accept()
}

// A Tail is what stands after the last line that counts.
type Tail struct {
	Line   int    // its number in the file, from 1
	Offset int64  // where it starts
	Bytes  []byte // all of it
	Whole  bool   // it holds a whole line
	Reason string // why the first line in it doesn't count
}

// A DamageError says that bytes are gone which were promised to stay.
type DamageError struct {
	Path   string
	Line   int   // the first line that doesn't count, from 1
	Offset int64 // where it starts
	Reason string
}

func (e *DamageError) Error() string {
	return fmt.Sprintf("%s is damaged at line %d, byte %d: %s", e.Path, e.Line, e.Offset, e.Reason)
}

// cursor is how far a file has been read.
type cursor struct {
	end  int64 // the offset behind the last line that counts
	last int64 // its version
	line int64 // how many lines were read, without the header
}

// readLines feeds the lines of data, which starts at cur.end, to c until one
// doesn't count, and tells what is left. An error is a *DamageError without its path.
func readLines(h Header, cur *cursor, data []byte, c Consumer) (taken int, tail *Tail, err error) {
	for len(data) > 0 {
		size := bytes.IndexByte(data, '\n')
		reason := "it has no end"
		if size >= 0 {
			reason = takeLine(h, cur, data[:size], c)
		}
		if reason != "" {
			tail = &Tail{Line: int(cur.line) + 2, Offset: cur.end, Bytes: data, Whole: size >= 0, Reason: reason}
			break
		}
		cur.end += int64(size) + 1
		cur.line++
		taken++
		data = data[size+1:]
	}
	if cur.line < h.Lines {
		reason := fmt.Sprintf("%d of the %d lines that hold version %d are missing", h.Lines-cur.line, h.Lines, h.Base)
		if tail != nil {
			reason = tail.Reason
		}
		return taken, tail, &DamageError{Line: int(cur.line) + 2, Offset: cur.end, Reason: reason}
	}
	if tail != nil && promised(tail.Bytes, cur.last, c) {
		return taken, tail, &DamageError{Line: tail.Line, Offset: tail.Offset, Reason: tail.Reason}
	}
	return taken, tail, nil
}

// takeLine gives the line to c if it counts, else says why it doesn't.
func takeLine(h Header, cur *cursor, line []byte, c Consumer) (reason string) {
	if !intact(line) {
		return "its checksum does not fit its bytes"
	}
	mark, err := c.Decode(line)
	if err != nil {
		return err.Error()
	}
	if cur.line < h.Lines {
		if mark.Version <= cur.last || mark.Version > h.Base {
			return fmt.Sprintf("its version is %d, not one from %d to %d", mark.Version, cur.last+1, h.Base)
		}
	} else if want := max(cur.last, h.Base) + 1; mark.Version != want {
		return fmt.Sprintf("its version is %d, not %d", mark.Version, want)
	}
	cur.last = mark.Version
	c.Accept()
	if cur.line+1 >= h.Lines {
		cur.last = max(cur.last, h.Base)
	}
	return ""
}

// promised says whether an intact line in rest was written when more than
// version last was synced.
func promised(rest []byte, last int64, c Consumer) bool {
	for line := range bytes.Lines(rest) {
		body, whole := bytes.CutSuffix(line, []byte("\n"))
		if !whole || !intact(body) {
			continue
		}
		if mark, err := c.Decode(body); err == nil && mark.Synced > last {
			return true
		}
	}
	return false
}

// AsDamage gives the DamageError in err, if there is one.
func AsDamage(err error) (*DamageError, bool) {
	var d *DamageError
	ok := errors.As(err, &d)
	return d, ok
}
