package scan

import (
	"strconv"
	"unicode/utf8"
)

const hexDigits = "0123456789abcdef"

// AppendString appends s as a JSON string.
func AppendString(dst []byte, s string) []byte {
	dst = append(dst, '"')
	start := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= ' ' && c != '"' && c != '\\' && c != 0x7f {
			continue
		}
		dst = append(dst, s[start:i]...)
		start = i + 1
		switch c {
		case '"', '\\':
			dst = append(dst, '\\', c)
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\r':
			dst = append(dst, '\\', 'r')
		case '\t':
			dst = append(dst, '\\', 't')
		default:
			dst = append(dst, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
	}
	dst = append(dst, s[start:]...)
	return append(dst, '"')
}

// StringLen returns the number of bytes that AppendString appends.
func StringLen(s string) int {
	n := len(s) + 2
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"', c == '\\', c == '\n', c == '\r', c == '\t':
			n++
		case c < ' ', c == 0x7f:
			n += len(`\u0000`) - 1
		}
	}
	return n
}

// An Object appends a JSON object to Dst.
type Object struct {
	Dst  []byte
	open bool // it has a member
}

// AppendObject starts an object at the end of dst.
func AppendObject(dst []byte) Object { return Object{Dst: append(dst, '{')} }

// Name appends the name of the next member. The caller appends the value to the result and assigns
// it to Dst.
func (o *Object) Name(name string) []byte {
	if o.open {
		o.Dst = append(o.Dst, ',')
	}
	o.open = true
	return append(AppendString(o.Dst, name), ':')
}

// Text appends a text member.
func (o *Object) Text(name, s string) { o.Dst = AppendString(o.Name(name), s) }

// Int appends an integer member.
func (o *Object) Int(name string, n int64) { o.Dst = strconv.AppendInt(o.Name(name), n, 10) }

// IntIf appends an integer member if it is not 0.
func (o *Object) IntIf(name string, n int64) {
	if n != 0 {
		o.Int(name, n)
	}
}

// Bool appends a bool member.
func (o *Object) Bool(name string, b bool) { o.Dst = strconv.AppendBool(o.Name(name), b) }

// BoolIf appends the member if it is true.
func (o *Object) BoolIf(name string, b bool) {
	if b {
		o.Bool(name, b)
	}
}

// End ends the object and returns Dst.
func (o *Object) End() []byte { return append(o.Dst, '}') }

// Quote quotes what a person typed, for a message. It cuts after 60 characters.
func Quote(s string) string {
	const most = 60
	if utf8.RuneCountInString(s) > most {
		s = string([]rune(s)[:most]) + "…"
	}
	return strconv.Quote(s)
}
