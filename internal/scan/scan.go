// Package scan reads JSON (RFC 8259) strictly and in one pass. It refuses bytes that are not UTF-8,
// lone surrogates, control characters in strings, a member that occurs twice in one object, and
// anything after the end. A number keeps its spelling, so the caller can distinguish 5 from 5.0,
// which encoding/json can't. It builds no tree: the caller says what it expects next, which keeps
// reading a long journal cheap. It also appends JSON.
package scan

import (
	"fmt"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"
)

// A SyntaxError says where the text is not as expected.
type SyntaxError struct {
	Offset int // bytes from the start
	What   string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("%s at byte %d", e.What, e.Offset)
}

// A Reader reads one JSON text. It is not safe for concurrent use.
type Reader struct {
	data []byte
	pos  int
}

// New returns a Reader at the start of data.
func New(data []byte) *Reader { return &Reader{data: data} }

// Reset makes r read data from its start.
func (r *Reader) Reset(data []byte) { r.data, r.pos = data, 0 }

// Rest returns the unread part of the text, without copying it.
func (r *Reader) Rest() []byte { return r.data[r.pos:] }

// Skip skips n bytes of Rest.
func (r *Reader) Skip(n int) { r.pos += n }

// Offset returns the number of bytes read.
func (r *Reader) Offset() int { return r.pos }

// Back returns to an earlier offset.
func (r *Reader) Back(offset int) { r.pos = offset }

// Literal reads s if the text continues with it, and reports whether it does.
func (r *Reader) Literal(s string) bool {
	end := r.pos + len(s)
	if end > len(r.data) || string(r.data[r.pos:end]) != s {
		return false
	}
	r.pos = end
	return true
}

// Errorf returns a SyntaxError for the present offset.
func (r *Reader) Errorf(format string, args ...any) error {
	return &SyntaxError{Offset: r.pos, What: fmt.Sprintf(format, args...)}
}

func (r *Reader) space() {
	for r.pos < len(r.data) {
		switch r.data[r.pos] {
		case ' ', '\t', '\n', '\r':
			r.pos++
		default:
			return
		}
	}
}

// Peek returns the first byte of the next token, or 0 at the end.
func (r *Reader) Peek() byte {
	r.space()
	if r.pos < len(r.data) {
		return r.data[r.pos]
	}
	return 0
}

// End returns an error unless only white space is left.
func (r *Reader) End() error {
	if r.Peek(); r.pos < len(r.data) {
		return r.Errorf("unexpected %q after the value", r.data[r.pos])
	}
	return nil
}

func (r *Reader) expect(c byte) error {
	if r.Peek() != c || r.pos >= len(r.data) {
		if r.pos >= len(r.data) {
			return r.Errorf("it ends instead of %q", c)
		}
		return r.Errorf("%q instead of %q", r.data[r.pos], c)
	}
	r.pos++
	return nil
}

// Object reads an object. It calls member with each name; member must read the value. The name is
// valid only during the call.
func (r *Reader) Object(member func(name []byte) error) error {
	if err := r.expect('{'); err != nil {
		return err
	}
	if r.Peek() == '}' {
		r.pos++
		return nil
	}
	var seen names
	for {
		name, err := r.StringBytes()
		if err != nil {
			return err
		}
		if seen.twice(name) {
			return r.Errorf("the name %s occurs twice in the object, the second time", Quote(string(name)))
		}
		if err := r.expect(':'); err != nil {
			return err
		}
		if err := member(name); err != nil {
			return err
		}
		if r.Peek() == ',' {
			r.pos++
			continue
		}
		return r.expect('}')
	}
}

// names holds the names of an object's members: a few in an array, more in a map.
type names struct {
	few  [8][]byte
	n    int
	many map[string]bool
}

// twice adds a name and reports whether it was there already.
func (s *names) twice(name []byte) bool {
	if s.many != nil {
		twice := s.many[string(name)]
		s.many[string(name)] = true
		return twice
	}
	for _, other := range s.few[:s.n] {
		if string(other) == string(name) {
			return true
		}
	}
	if s.n < len(s.few) {
		s.few[s.n] = name
		s.n++
		return false
	}
	s.many = make(map[string]bool, 4*len(s.few))
	for _, other := range s.few {
		s.many[string(other)] = true
	}
	s.many[string(name)] = true
	return false
}

// Array reads an array. It calls item before each item; item must read it.
func (r *Reader) Array(item func() error) error {
	if err := r.expect('['); err != nil {
		return err
	}
	if r.Peek() == ']' {
		r.pos++
		return nil
	}
	for {
		if err := item(); err != nil {
			return err
		}
		if r.Peek() == ',' {
			r.pos++
			continue
		}
		return r.expect(']')
	}
}

// String reads a string.
func (r *Reader) String() (string, error) {
	b, err := r.StringBytes()
	return string(b), err
}

// StringBytes reads a string and does not copy it if it has no escapes. The bytes belong to the
// text.
func (r *Reader) StringBytes() ([]byte, error) {
	if err := r.expect('"'); err != nil {
		return nil, err
	}
	start := r.pos
	data := r.data
	var all byte // a bit above 0x7f: it is not all ASCII
	for i := start; i < len(data); i++ {
		c := data[i]
		if c == '"' {
			s := data[start:i]
			if all >= utf8.RuneSelf && !utf8.Valid(s) {
				return nil, r.Errorf("a string that is not UTF-8")
			}
			r.pos = i + 1
			return s, nil
		}
		if c < ' ' || c == '\\' {
			r.pos = i
			if c == '\\' {
				return r.unescape(start)
			}
			return nil, r.Errorf("a bare control character in a string")
		}
		all |= c
	}
	r.pos = len(data)
	return nil, r.Errorf("a string without its end")
}

// unescape reads the rest of a string with escapes.
func (r *Reader) unescape(start int) ([]byte, error) {
	out := append([]byte(nil), r.data[start:r.pos]...)
	for r.pos < len(r.data) {
		c := r.data[r.pos]
		switch {
		case c == '"':
			if !utf8.Valid(out) {
				return nil, r.Errorf("a string that is not UTF-8")
			}
			r.pos++
			return out, nil
		case c < ' ':
			return nil, r.Errorf("a bare control character in a string")
		case c != '\\':
			out = append(out, c)
			r.pos++
			continue
		}
		if r.pos++; r.pos >= len(r.data) {
			break
		}
		c = r.data[r.pos]
		r.pos++
		switch c {
		case '"', '\\', '/':
			out = append(out, c)
		case 'b':
			out = append(out, '\b')
		case 'f':
			out = append(out, '\f')
		case 'n':
			out = append(out, '\n')
		case 'r':
			out = append(out, '\r')
		case 't':
			out = append(out, '\t')
		case 'u':
			x, err := r.escapedRune()
			if err != nil {
				return nil, err
			}
			out = utf8.AppendRune(out, x)
		default:
			r.pos--
			return nil, r.Errorf("an unknown escape \\%c", c)
		}
	}
	return nil, r.Errorf("a string without its end")
}

// escapedRune reads the digits after \u, and the second half of a pair.
func (r *Reader) escapedRune() (rune, error) {
	first, err := r.hex4()
	if err != nil {
		return 0, err
	}
	if !utf16.IsSurrogate(first) {
		return first, nil
	}
	if r.pos+1 < len(r.data) && r.data[r.pos] == '\\' && r.data[r.pos+1] == 'u' {
		r.pos += 2
		second, err := r.hex4()
		if err != nil {
			return 0, err
		}
		if x := utf16.DecodeRune(first, second); x != utf8.RuneError {
			return x, nil
		}
	}
	return 0, r.Errorf("half of a surrogate pair")
}

func (r *Reader) hex4() (rune, error) {
	if r.pos+4 > len(r.data) {
		return 0, r.Errorf("an escape without its end")
	}
	x, err := strconv.ParseUint(string(r.data[r.pos:r.pos+4]), 16, 16)
	if err != nil {
		return 0, r.Errorf("an escape that is not four hex digits")
	}
	r.pos += 4
	return rune(x), nil
}

// Word reads true, false or null.
func (r *Reader) Word() (string, error) {
	r.space()
	for _, w := range [...]string{"true", "false", "null"} {
		if end := r.pos + len(w); end <= len(r.data) && string(r.data[r.pos:end]) == w {
			r.pos = end
			return w, nil
		}
	}
	return "", r.Errorf("something that is not a value")
}

// Raw reads any value up to a nesting depth and returns its bytes, which belong to the text.
func (r *Reader) Raw(depth int) ([]byte, error) {
	r.Peek()
	start := r.pos
	if err := r.skip(depth); err != nil {
		return nil, err
	}
	return r.data[start:r.pos], nil
}

func (r *Reader) skip(depth int) error {
	var err error
	switch c := r.Peek(); c {
	case '{', '[':
		if depth == 0 {
			return r.Errorf("values nested too deep")
		}
		if c == '{' {
			return r.Object(func([]byte) error { return r.skip(depth - 1) })
		}
		return r.Array(func() error { return r.skip(depth - 1) })
	case '"':
		_, err = r.StringBytes()
	case 't', 'f', 'n':
		_, err = r.Word()
	default:
		_, _, err = r.Number()
	}
	return err
}

// Bool reads true or false.
func (r *Reader) Bool() (bool, error) {
	w, err := r.Word()
	if err == nil && w == "null" {
		err = r.Errorf("null, instead of true or false, ends")
	}
	return w == "true", err
}

// Whole reads all of data with read.
func Whole[T any](data []byte, read func(*Reader) (T, error)) (T, error) {
	r := New(data)
	x, err := read(r)
	if err == nil {
		err = r.End()
	}
	return x, err
}
