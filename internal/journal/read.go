package journal

import (
	"bytes"
	"errors"
	"fmt"
)

// A Mark is what the journal needs to know about a line.
type Mark struct {
	Version int64
	Synced  int64 // the version up to which everything was synced when the line was written
	Over    int64 // the line replaces this many commits, which end at Version; 0 means that it is one commit
	End     End   // the End of that commit, if this line is not the one first written
}

// An End is the crc of a commit's line as first written. It distinguishes two commits of one
// version. The zero End means unknown.
type End [8]byte

// String returns "" for the zero End.
func (e End) String() string { return string(bytes.TrimRight(e[:], "\x00")) }

// ParseEnd parses an End. It returns the zero End for anything else.
func ParseEnd(s string) (e End) {
	if len(s) == len(e) {
		copy(e[:], s)
	}
	return e
}

// EndOf returns the End of the newest commit in a line with this mark.
func (m Mark) EndOf(line []byte) End {
	if m.End != (End{}) {
		return m.End
	}
	return EndOf(line)
}

// EndOf returns the crc of the last of lines.
func EndOf(lines []byte) (e End) {
	lines = bytes.TrimSuffix(lines, []byte("\n"))
	copy(e[:], lines[len(lines)-trailLen+len(trailer):])
	return e
}

// A Consumer interprets lines. Decode parses a line, including its crc, and returns its mark.
// Accept applies the line that was decoded last. A decoded line need not be accepted.
type Consumer interface {
	Decode(line []byte) (Mark, error)
	Accept()
}

// An Expecter is a Consumer that gets the number of bytes in advance.
type Expecter interface{ Expect(size int) }

// A Lender is a Consumer that provides the buffer of size bytes for reading a View.
type Lender interface{ Lend(size int) []byte }

// A Tail is the part of a file after the last line that counts.
type Tail struct {
	Line   int    // its first line's number in the file, from 1
	Offset int64  // where it starts
	Bytes  []byte // all of it
	Whole  bool   // it contains a whole line
	Reason string // why its first line does not count
}

// A DamageError reports that synced bytes are missing.
type DamageError struct {
	Path   string
	Line   int   // the first line that does not count, from 1
	Offset int64 // where it starts
	Reason string
}

func (e *DamageError) Error() string {
	return fmt.Sprintf("%s is damaged at line %d, byte %d: %s", e.Path, e.Line, e.Offset, e.Reason)
}

// cursor is a position in a file.
type cursor struct {
	end    int64 // the offset after the last line that counts
	last   int64 // its version
	line   int64 // the number of lines read, without the header
	newest End   // of the newest commit
}

// readLines passes the lines of data, which starts at cur.end, to c until one does not count. It
// returns the rest as a tail. An error is a *DamageError without its path.
func readLines(h Header, cur *cursor, data []byte, c Consumer) (taken int, tail *Tail, err error) {
	for len(data) > 0 {
		size := bytes.IndexByte(data, '\n')
		reason := "it has no end"
		if size >= 0 {
			reason = consumeLine(h, cur, data[:size], c)
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

// consumeLine passes the line to c if it counts. Otherwise it returns the reason.
func consumeLine(h Header, cur *cursor, line []byte, c Consumer) (reason string) {
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
	} else if want := max(cur.last, h.Base) + max(mark.Over, 1); mark.Version != want {
		return fmt.Sprintf("its version is %d, not %d", mark.Version, want)
	} else {
		cur.newest = mark.EndOf(line)
	}
	cur.last = mark.Version
	c.Accept()
	if cur.line+1 >= h.Lines {
		cur.last = max(cur.last, h.Base)
	}
	return ""
}

// promised reports whether rest contains an intact line that was written when a later version than
// last was synced.
func promised(rest []byte, last int64, c Consumer) bool {
	for line := range bytes.Lines(rest) {
		body, whole := bytes.CutSuffix(line, []byte("\n"))
		if !whole {
			continue
		}
		if body = intactEnd(body); body == nil {
			continue
		}
		if mark, err := c.Decode(body); err == nil && mark.Synced > last {
			return true
		}
	}
	return false
}

// mostBegins is how many possible line starts within a stretch are tried. The bound keeps a long
// stretch from taking long.
const mostBegins = 64

// intactEnd returns the intact line at the end of a stretch without newlines: the whole stretch, or
// the line after one that lost its newline. A text inside a line can look like the start of a line,
// so it tries several starts from the end.
func intactEnd(stretch []byte) []byte {
	if intact(stretch) {
		return stretch
	}
	begin := []byte(`{"version":`)
	for end, tries := len(stretch), 0; tries < mostBegins; tries++ {
		at := bytes.LastIndex(stretch[:end], begin)
		if at < 1 {
			return nil
		}
		if intact(stretch[at:]) {
			return stretch[at:]
		}
		end = at + len(begin) - 1
	}
	return nil
}

// AsDamage returns the DamageError in err, if any.
func AsDamage(err error) (*DamageError, bool) {
	var d *DamageError
	ok := errors.As(err, &d)
	return d, ok
}

// A Loss is a stretch of a damaged file that can't be read.
type Loss struct {
	Line   int   // where it starts, from 1
	Offset int64 // where it starts, in bytes
	Bytes  int
	Reason string
}

// Salvage passes every intact line of a damaged file to c, with any version, and returns the
// stretches that can't be read. The header is as much of it as is left.
func Salvage(data []byte, c Consumer) (h Header, lost []Loss) {
	var offset int64
	number := 0
	lose := func(line []byte, reason string) {
		if n := len(lost); n > 0 && lost[n-1].Offset+int64(lost[n-1].Bytes) == offset {
			lost[n-1].Bytes += len(line)
			return
		}
		lost = append(lost, Loss{Line: number, Offset: offset, Bytes: len(line), Reason: reason})
	}
	for line := range bytes.Lines(data) {
		number++
		body, whole := bytes.CutSuffix(line, []byte("\n"))
		var err error
		behind := func() { // decodes a line after one that lost its newline
			if end := intactEnd(body); end != nil {
				if _, bad := c.Decode(end); bad == nil {
					c.Accept()
				}
			}
		}
		switch {
		case number == 1:
			if h, err = parseHeader(body); err != nil && whole {
				behind()
			}
		case !whole:
			err = errors.New("it has no newline")
		case !intact(body):
			err = errors.New("its checksum does not fit its bytes")
			behind()
		default:
			if _, err = c.Decode(body); err == nil {
				c.Accept()
			}
		}
		if err != nil {
			lose(line, err.Error())
		}
		offset += int64(len(line))
	}
	return h, lost
}
