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
	Over    int64 // it stands for so many commits, the last of which is Version; 0: for one
	End     End   // of the line of that commit, where this line is another
}

// An End is the crc of the line of a commit as it was first written, which tells
// two commits of the same version apart; zero: not known.
type End [8]byte

// String is empty for the zero End.
func (e End) String() string { return string(bytes.TrimRight(e[:], "\x00")) }

// ParseEnd reads an End; what is none gives the zero one.
func ParseEnd(s string) (e End) {
	if len(s) == len(e) {
		copy(e[:], s)
	}
	return e
}

// EndOf gives the End of the newest commit in a line with this mark.
func (m Mark) EndOf(line []byte) End {
	if m.End != (End{}) {
		return m.End
	}
	return EndOf(line)
}

// EndOf gives the crc of the last of lines.
func EndOf(lines []byte) (e End) {
	lines = bytes.TrimSuffix(lines, []byte("\n"))
	copy(e[:], lines[len(lines)-trailLen+len(trailer):])
	return e
}

// A Consumer understands the lines. Decode reads one, with its crc, and says
// what its mark is; Accept takes the line that was decoded last into the
// state. A line may be decoded and not accepted.
type Consumer interface {
	Decode(line []byte) (Mark, error)
	Accept()
}

// An Expecter is a Consumer that wants to know how many bytes are to come.
type Expecter interface{ Expect(size int) }

// A Lender is a Consumer that has room for what is read of a View: it gives size bytes.
type Lender interface{ Lend(size int) []byte }

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
	end    int64 // the offset behind the last line that counts
	last   int64 // its version
	line   int64 // how many lines were read, without the header
	newest End   // of the newest commit
}

// readLines feeds the lines of data, which starts at cur.end, to c until one
// doesn't count, and tells what is left. An error is a *DamageError without its path.
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

// consumeLine gives the line to c if it counts, else says why it doesn't.
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

// promised says whether an intact line in rest was written when more than
// version last was synced.
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

// most of what may begin a line within a stretch is looked at, so that no
// stretch takes long.
const mostBegins = 64

// intactEnd gives the intact line that ends a stretch without newlines: all of
// it, or what stands behind a line that has lost its newline. A text within a
// line may look like the begin of one, so several are tried, from the last on.
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

// AsDamage gives the DamageError in err, if there is one.
func AsDamage(err error) (*DamageError, bool) {
	var d *DamageError
	ok := errors.As(err, &d)
	return d, ok
}

// A Loss is a stretch of a damaged file that can't be read.
type Loss struct {
	Line   int   // where it starts, from 1
	Offset int64 // the same, in bytes
	Bytes  int
	Reason string
}

// Salvage gives every intact line of a damaged file to c, whatever its
// version, and tells what can't be read. The header is what is left of it.
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
		behind := func() { // what has lost the newline before it
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
			err = errors.New("it has no end")
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
