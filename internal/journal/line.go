package journal

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"strings"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Format is the format in the header of a journal.
const Format = "small-pantry/1"

const (
	trailer  = `,"crc":"`
	trailLen = len(trailer) + 8 + len(`"}`)
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

const hexDigits = "0123456789abcdef"

// Finish ends the line that starts at dst[start:] and lacks its closing brace. It appends the crc
// and the newline.
func Finish(dst []byte, start int) []byte {
	sum := crc32.Checksum(dst[start:], castagnoli)
	dst = append(dst, trailer...)
	for shift := 28; shift >= 0; shift -= 4 {
		dst = append(dst, hexDigits[sum>>shift&15])
	}
	return append(dst, "\"}\n"...)
}

// intact reports whether line, without its newline, ends in the crc of its bytes.
func intact(line []byte) bool {
	if len(line) <= trailLen {
		return false
	}
	body, end := line[:len(line)-trailLen], line[len(line)-trailLen:]
	if !bytes.HasPrefix(end, []byte(trailer)) || !bytes.HasSuffix(end, []byte(`"}`)) {
		return false
	}
	var sum uint32
	for _, c := range end[len(trailer) : len(trailer)+8] {
		switch {
		case '0' <= c && c <= '9':
			sum = sum<<4 | uint32(c-'0')
		case 'a' <= c && c <= 'f':
			sum = sum<<4 | uint32(c-'a'+10)
		default:
			return false
		}
	}
	return crc32.Checksum(body, castagnoli) == sum
}

// A Header is the first line of a journal.
type Header struct {
	Name   string // of the namespace or board
	Schema int64
	ID     string // drawn at creation and repair, and after forgetting
	Life   string // the first ID, which is kept; "" means that ID is the first
	Base   int64  // the version of the state that follows
	Lines  int64  // the number of lines that hold the state
	Oldest int64  // the version from which changes can be reported
	End    End    // of the commit at Base
	// Receipts is the newest version whose receipt was dropped.
	Receipts int64
	// Dir identifies the directory whose own entry, and those above it, were synced; "" means unknown.
	Dir  string
	Rest scan.Rest
}

func (h *Header) fields(format, end *string) []scan.Field {
	return []scan.Field{
		scan.Always("format", format), scan.Always("namespace", &h.Name), scan.Always("schema", &h.Schema), scan.Always("id", &h.ID), scan.Maybe("life", &h.Life),
		scan.Always("base", &h.Base), scan.Always("lines", &h.Lines), scan.Always("oldest", &h.Oldest), scan.Maybe("end", end), scan.Maybe("receipts", &h.Receipts), scan.Maybe("dir", &h.Dir),
		scan.Maybe("crc", new([]byte)), scan.Others(&h.Rest),
	}
}

// AnyLife is the Life of a repaired file whose header could not be read.
const AnyLife = "?"

// LifeID identifies the namespace or board from its creation to its removal. Forgetting and repair keep it.
// It can be AnyLife.
func (h *Header) LifeID() string {
	if h.Life != "" {
		return h.Life
	}
	return h.ID
}

// WithID returns the header with another ID, and the same LifeID.
func (h *Header) WithID(id string) Header {
	other := *h
	other.Life, other.ID = h.LifeID(), id
	return other
}

// append appends the header's line to dst.
func (h Header) append(dst []byte) []byte {
	start := len(dst)
	format, end := Format, h.End.String()
	dst = scan.AppendFields(dst, h.fields(&format, &end)...)
	return Finish(dst[:len(dst)-1], start)
}

// A NewerError is returned for a file of a later format than this code knows.
type NewerError struct{ Format string }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the file's format is %q, and this program knows %q: use a newer program", e.Format, Format)
}

func parseHeader(line []byte) (Header, error) {
	if !intact(line) {
		return Header{}, fmt.Errorf("the header is not intact")
	}
	var h Header
	var format, end string
	err := scan.ReadFields(line, value.MaxDepth, h.fields(&format, &end)...)
	h.End = ParseEnd(end)
	switch {
	case err != nil:
		return Header{}, fmt.Errorf("the header can't be read: %w", err)
	case !strings.HasPrefix(format, "small-pantry/"):
		return Header{}, fmt.Errorf("the first line is not a header")
	case format != Format:
		return Header{}, &NewerError{format}
	case h.Base < 0 || h.Lines < 0:
		return Header{}, fmt.Errorf("the header has a negative base or number of lines")
	}
	return h, nil
}
