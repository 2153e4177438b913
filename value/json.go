package value

import (
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/sorted"
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
// The form does not include the kind, except for numbers, bool and null. Store the kind beside it:
// see Parse.
func (v Value) AppendJSON(dst []byte) []byte {
	switch v.kind {
	case KindBool:
		return strconv.AppendBool(dst, v.bits != 0)
	case KindInt:
		return strconv.AppendInt(dst, int64(v.bits), 10)
	case KindFloat:
		return appendFloat(dst, v.float())
	case KindText:
		return scan.AppendString(dst, v.text)
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
			dst = scan.AppendString(dst, m.Name)
			dst = append(dst, ':')
			dst = m.Value.AppendJSON(dst)
		}
		return append(dst, '}')
	}
	return append(dst, "null"...)
}

// MarshalJSON returns the JSON form: see AppendJSON.
func (v Value) MarshalJSON() ([]byte, error) { return v.AppendJSON(nil), nil }

func appendFloat(dst []byte, f float64) []byte {
	if f != f || math.IsInf(f, 0) {
		return scan.AppendString(dst, floatWord(f))
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

// Parse reads the JSON form of a value of kind k. It is strict: an int with a point is not an int,
// and a name that occurs twice in one object is an error. Errors wrap ErrInvalid, or ErrWrongKind
// if the JSON is valid but of another kind.
func Parse(k Kind, data []byte) (Value, error) {
	v, n, err := ParsePrefix(k, data)
	if err == nil {
		r := scan.New(data)
		r.Skip(n)
		err = wrapSyntax(r.End())
	}
	if err != nil {
		return Value{}, err
	}
	return v, nil
}

// ParseAny reads JSON of an unknown kind. An integer is an int, another number a float, a string a
// text, an array a list, an object a map.
func ParseAny(data []byte) (Value, error) { return Parse(KindNone, data) }

func wrapSyntax(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: %w", ErrInvalid, err)
}

// ParsePrefix is Parse of a value at the start of data, which can be longer. n is the length of the
// value in bytes.
func ParsePrefix(k Kind, data []byte) (v Value, n int, err error) {
	r := scan.New(data)
	v, err = read(r, MaxDepth)
	switch {
	case err != nil:
		return Value{}, 0, wrapSyntax(err)
	case k == KindNone || v.kind == k:
		return v, r.Offset(), nil
	case v.kind == KindText:
		v, err = fromString(k, v.text)
		return v, r.Offset(), err
	}
	return Value{}, 0, fmt.Errorf("%w: %s instead of %s", ErrWrongKind, v.kind, k)
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
		if err == nil && strings.ContainsAny(s, "\r\n") { // the decoder would ignore it
			err = errors.New("it contains a line break")
		}
		if err != nil {
			return Value{}, fmt.Errorf("%w: %s must be base64: %w", ErrInvalid, k, err)
		}
		return Value{kind: k, text: string(b)}, nil
	case KindTime:
		t, err := time.Parse(time.RFC3339Nano, s)
		if err != nil {
			return Value{}, refuse.As(ErrInvalid, "%s is no time as RFC 3339 has it, such as 2026-05-03T09:12:44Z", scan.Quote(s))
		}
		v := Time(t)
		return v, v.check(0, false)
	}
	return Value{}, fmt.Errorf("%w: text instead of %s", ErrWrongKind, k)
}

func read(r *scan.Reader, depth int) (Value, error) {
	switch c := r.Peek(); c {
	case '"':
		s, err := r.String()
		return Text(s), err
	case '{', '[':
		if depth == 0 {
			return Value{}, r.Errorf("lists and maps nested more than %d levels deep", MaxDepth)
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
	sorted.By(members, byName)
	return mapOf(members), nil
}

// String returns v for people to read: text without quotes, a time in RFC 3339, bytes in base64,
// the rest as JSON.
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

// JSONLen returns the length of the JSON form in bytes, without making it.
func (v Value) JSONLen() int {
	const quotes = 2
	switch v.kind {
	case KindInt:
		n, rest := 1, int64(v.bits)
		if rest < 0 {
			n++
		}
		for ; rest <= -10 || rest >= 10; rest /= 10 {
			n++
		}
		return n
	case KindText:
		return scan.StringLen(v.text)
	case KindBytes, KindSealed:
		return quotes + base64.StdEncoding.EncodedLen(len(v.text))
	case KindList, KindMap:
		n := quotes + max(v.Len()-1, 0) // its brackets and commas
		for _, item := range v.items() {
			n += item.JSONLen()
		}
		for _, m := range v.members() {
			n += scan.StringLen(m.Name) + 1 + m.Value.JSONLen()
		}
		return n
	}
	var short [48]byte
	return len(v.AppendJSON(short[:0]))
}
