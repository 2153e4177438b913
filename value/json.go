package value

import (
	"encoding/base64"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/small-pantry/pantry/internal/scan"
)

// AppendJSON appends the JSON form of v to dst:
//
//	bool, text   as in JSON
//	int          a JSON integer, exact over 64 bits
//	float        a JSON number, always with a point or an exponent, or "NaN", "+Inf", "-Inf"
//	bytes        base64 (RFC 4648, with padding), in quotes
//	time         RFC 3339 with up to nanoseconds, in UTC, in quotes
//	list, map    an array, an object
//	sealed       base64, in quotes
//
// The kind is not in it but for numbers, bool and null, so that it has to
// stand beside it: see Parse.
func (v Value) AppendJSON(dst []byte) []byte {
	switch v.kind {
	case KindBool:
		return strconv.AppendBool(dst, v.bits != 0)
	case KindInt:
		return strconv.AppendInt(dst, int64(v.bits), 10)
	case KindFloat:
		return appendFloat(dst, v.float())
	case KindText:
		return AppendString(dst, v.text)
	case KindBytes, KindSealed:
		dst = append(dst, '"')
		dst = base64.StdEncoding.AppendEncode(dst, []byte(v.text))
		return append(dst, '"')
	case KindTime:
		t, _ := v.AsTime()
		dst = append(dst, '"')
		dst = t.AppendFormat(dst, time.RFC3339Nano)
		return append(dst, '"')
	case KindList:
		dst = append(dst, '[')
		for i, item := range v.items() {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = item.AppendJSON(dst)
		}
		return append(dst, ']')
	case KindMap:
		dst = append(dst, '{')
		for i, m := range v.members() {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = AppendString(dst, m.Name)
			dst = append(dst, ':')
			dst = m.Value.AppendJSON(dst)
		}
		return append(dst, '}')
	}
	return append(dst, "null"...)
}

// MarshalJSON gives the JSON form: see AppendJSON.
func (v Value) MarshalJSON() ([]byte, error) { return v.AppendJSON(nil), nil }

func appendFloat(dst []byte, f float64) []byte {
	if f != f || math.IsInf(f, 0) {
		return AppendString(dst, floatWord(f))
	}
	format := byte('f')
	if abs := math.Abs(f); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	start := len(dst)
	dst = strconv.AppendFloat(dst, f, format, -1, 64)
	if format == 'f' && !slices.Contains(dst[start:], '.') {
		dst = append(dst, ".0"...)
	}
	return dst
}

func floatWord(f float64) string {
	switch {
	case f > 0:
		return "+Inf"
	case f < 0:
		return "-Inf"
	}
	return "NaN"
}

func wordFloat(s string) (f float64, ok bool) {
	switch s {
	case "NaN":
		return math.NaN(), true
	case "+Inf":
		return math.Inf(1), true
	case "-Inf":
		return math.Inf(-1), true
	}
	return 0, false
}

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

// Parse reads the JSON form of a value of kind k. It is strict: an int with a
// point is not an int, a name twice in one object is an error. Errors wrap
// ErrInvalid, or ErrWrongKind where the JSON is sound but of another kind.
func Parse(k Kind, data []byte) (Value, error) {
	r := scan.New(data)
	v, err := Read(r, k)
	if err == nil {
		err = wrapSyntax(r.End())
	}
	if err != nil {
		return Value{}, err
	}
	return v, nil
}

// ParseAny reads JSON whose kind is not given: an integer is an int, another
// number a float, a string a text, an array a list, an object a map.
func ParseAny(data []byte) (Value, error) { return Parse(KindNone, data) }

func wrapSyntax(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: %w", ErrInvalid, err)
}

// Read reads a value of kind k where r stands; with KindNone, of the kind
// that the JSON has by itself.
func Read(r *scan.Reader, k Kind) (Value, error) {
	start := r.Offset()
	v, err := read(r, MaxDepth)
	if err != nil {
		return Value{}, wrapSyntax(err)
	}
	if k == KindNone || v.kind == k {
		return v, nil
	}
	if v.kind == KindText {
		return fromString(k, v.text)
	}
	return Value{}, fmt.Errorf("%w: %s where %s should stand, at byte %d", ErrWrongKind, v.kind, k, start)
}

// fromString reads the kinds whose JSON form is a string.
func fromString(k Kind, s string) (Value, error) {
	switch k {
	case KindText:
		return Text(s), nil
	case KindFloat:
		if f, ok := wordFloat(s); ok {
			return Float(f), nil
		}
	case KindBytes, KindSealed:
		b, err := base64.StdEncoding.Strict().DecodeString(s)
		if err != nil {
			return Value{}, fmt.Errorf("%w: %s must be base64: %w", ErrInvalid, k, err)
		}
		return Value{kind: k, text: string(b)}, nil
	case KindTime:
		t, err := time.Parse(time.RFC3339Nano, s)
		if err != nil {
			return Value{}, fmt.Errorf("%w: %s is no time as RFC 3339 has it, such as 2026-05-03T09:12:44Z", ErrInvalid, Quote(s))
		}
		v := Time(t)
		return v, v.check(0, false)
	}
	return Value{}, fmt.Errorf("%w: text where %s should stand", ErrWrongKind, k)
}

func read(r *scan.Reader, depth int) (Value, error) {
	switch c := r.Peek(); c {
	case '"':
		s, err := r.String()
		return Text(s), err
	case '{', '[':
		if depth == 0 {
			return Value{}, r.Errorf("lists and maps over %d deep inside one another", MaxDepth)
		}
		if c == '[' {
			return readList(r, depth)
		}
		return readMap(r, depth)
	case 't', 'f', 'n':
		w, err := r.Word()
		if w == "null" {
			return Null(), err
		}
		return Bool(w == "true"), err
	}
	lit, integer, err := r.Number()
	if err != nil {
		return Value{}, err
	}
	if integer {
		n, ok := scan.ParseInt(lit)
		if !ok {
			return Value{}, r.Errorf("the number %s, which does not fit in 64 bits, ends", lit)
		}
		return Int(n), nil
	}
	f, err := strconv.ParseFloat(string(lit), 64)
	if err != nil {
		return Value{}, r.Errorf("the number %s, too large for a float, ends", lit)
	}
	return Float(f), nil
}

func readList(r *scan.Reader, depth int) (Value, error) {
	var items []Value
	err := r.Array(func() error {
		item, err := read(r, depth-1)
		items = append(items, item)
		return err
	})
	return listOf(items), err
}

func readMap(r *scan.Reader, depth int) (Value, error) {
	var members []Member
	err := r.Object(func(name []byte) error {
		m := Member{Name: string(name)}
		var err error
		m.Value, err = read(r, depth-1)
		members = append(members, m)
		return err
	})
	if err != nil {
		return Value{}, err
	}
	slices.SortFunc(members, func(a, b Member) int { return strings.Compare(a.Name, b.Name) })
	for i := 1; i < len(members); i++ {
		if members[i].Name == members[i-1].Name {
			return Value{}, r.Errorf("the object with the name %s twice ends", Quote(members[i].Name))
		}
	}
	return mapOf(members), nil
}

// String gives v as people read it: text bare, a time as RFC 3339, bytes as
// base64, the rest as JSON.
func (v Value) String() string {
	switch v.kind {
	case KindText:
		return v.text
	case KindFloat:
		if f := v.float(); f != f || math.IsInf(f, 0) {
			return floatWord(f)
		}
	case KindTime:
		t, _ := v.AsTime()
		return t.Format(time.RFC3339Nano)
	case KindBytes, KindSealed:
		return base64.StdEncoding.EncodeToString([]byte(v.text))
	case KindNone:
		return ""
	}
	return string(v.AppendJSON(nil))
}

// Quote quotes what a person typed for a message, cut after 60 characters.
func Quote(s string) string {
	const most = 60
	if utf8.RuneCountInString(s) > most {
		s = string([]rune(s)[:most]) + "…"
	}
	return strconv.Quote(s)
}

// Quoted gives v for a message: text in quotes, the rest as String has it,
// cut after 60 characters.
func Quoted(v Value) string {
	if v.kind == KindText {
		return Quote(v.text)
	}
	s := v.String()
	if r := []rune(s); len(r) > 60 {
		s = string(r[:60]) + "…"
	}
	return s
}
