package scan_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/scan"
	_ "github.com/small-pantry/pantry/internal/test/hang"
)

// raw reads one value and nothing after it.
func raw(s string) error {
	r := scan.New([]byte(s))
	_, err := r.Raw(64)
	if err == nil {
		err = r.End()
	}
	return err
}

func TestRawAgainstTheStandardLibrary(t *testing.T) {
	t.Parallel()
	for _, s := range []string{
		`0`, `-0`, `1`, `-12`, `12.5`, `1e5`, `1E+5`, `1.5e-7`, `"a"`, `""`, `true`, `false`, `null`, `[]`, `{}`, ` [ 1 , 2 ] `, `{"a" : {"b":[]}}`, `"\u00e4\n\"\\\/\b\f\r\t"`,
		``, ` `, `01`, `-`, `+1`, `.5`, `1.`, `1e`, `1e+`, `--1`, `1 2`, `"a`, `"\x"`, `"\u12"`, `"\u12g4"`, "\"\n\"", `tru`, `True`, `nul`, `[`, `[1`, `[1,`, `[1,]`, `[,1]`, `]`, `{`, `{"a"`, `{"a":`, `{"a":1`, `{"a":1,`, `{"a":1,}`, `{a:1}`, `{"a" 1}`, `"a" "b"`, `[1}`, `{"a":1]`,
	} {
		assert.Equal(t, json.Valid([]byte(s)), raw(s) == nil, "%q: %v", s, raw(s))
	}
	assert.Error(t, raw(`"`+"\xff"+`"`), "what is not UTF-8 is refused, which the standard library lets pass")
	assert.Error(t, raw(`"\ud800"`))
	assert.NoError(t, raw(strings.Repeat("[", 64)+strings.Repeat("]", 64)))
	assert.Error(t, raw(strings.Repeat("[", 65)+strings.Repeat("]", 65)))
}

// An object has each member once, in any spelling and at any number of members.
func TestTwice(t *testing.T) {
	t.Parallel()
	var many strings.Builder
	for i := range 40 {
		fmt.Fprintf(&many, `"m%d":%d,`, i, i)
	}
	for s, twice := range map[string]bool{
		`{"a":1,"b":2}`: false, `{"a":1,"a":2}`: true, `{"a":1,"\u0061":2}`: true, `{"":1,"":2}`: true,
		`[{"a":1},{"a":1}]`: false, `{"a":{"a":1}}`: false, `{"b":[{"a":{"c":1,"d":2,"c":3}}]}`: true, `{"a":1,"A":2}`: false,
		`{` + many.String() + `"m40":0}`: false, `{` + many.String() + `"m7":0}`: true, `{` + many.String() + `"m39":0}`: true, `{` + many.String() + `"m8":0}`: true,
	} {
		err := raw(s)
		assert.Equal(t, twice, err != nil, "%.40s: %v", s, err)
	}
}

func TestFields(t *testing.T) {
	t.Parallel()
	type shape struct {
		a, b    string
		c, d    int64
		e, f    bool
		g       []byte
		numbers []int64
	}
	fields := func(s *shape) []scan.Field {
		write := func(n int64, dst []byte) []byte { return fmt.Append(dst, n) }
		return []scan.Field{
			scan.Always("a", &s.a), scan.Maybe("b", &s.b), scan.Always("c", &s.c), scan.Maybe("d", &s.d), scan.Always("e", &s.e), scan.Maybe("f", &s.f),
			scan.Maybe("g", &s.g), scan.Always("numbers", scan.List(&s.numbers, (*scan.Reader).Int, write)), scan.Maybe("none", scan.Form{}),
		}
	}
	for _, c := range []struct {
		s    shape
		want string
	}{
		{shape{}, `{"a":"","c":0,"e":false,"numbers":[]}`},
		{shape{"ä\"\x01", "b", -5, 6, false, true, []byte(`[1]`), []int64{1, 2}}, `{"a":"ä\"\u0001","b":"b","c":-5,"d":6,"e":false,"f":true,"g":[1],"numbers":[1,2]}`},
	} {
		text := scan.AppendFields(nil, fields(&c.s)...)
		assert.Equal(t, c.want, string(text))
		var back shape
		require.NoError(t, scan.ReadFields(text, 9, fields(&back)...))
		assert.Equal(t, c.s, back)
	}
	var s shape
	require.NoError(t, scan.ReadFields([]byte(` {"other":{"a":[]},"a":"x"} `), 9, fields(&s)...))
	assert.Equal(t, "x", s.a)
	for _, bad := range []string{`{"a":5}`, `{"e":null}`, `{"numbers":[1.5]}`, `{"a":"x","a":"y"}`, `{} x`, `[]`, `{"other":[[[[[[[[[[1]]]]]]]]]]}`} {
		assert.Error(t, scan.ReadFields([]byte(bad), 9, fields(&shape{})...), bad)
	}
	assert.Equal(t, `"`+strings.Repeat("ä", 60)+`…"`, scan.Quote(strings.Repeat("ä", 61)))
}

func TestReader(t *testing.T) {
	t.Parallel()
	r := scan.New([]byte(` {"n": -42, "f":1.50, "s":"a\u00e4", "l":[true,null], "skip":{"x":[1]} } `))
	got := map[string]string{}
	err := r.Object(func(name []byte) error {
		switch member := string(name); member {
		case "n":
			n, err := r.Int()
			got[member] = fmt.Sprint(n)
			return err
		case "f":
			lit, integer, err := r.Number()
			got[member] = fmt.Sprint(string(lit), integer)
			return err
		case "s":
			s, err := r.String()
			got[member] = s
			return err
		case "l":
			return r.Array(func() error {
				w, err := r.Word()
				got[member] += w
				return err
			})
		default:
			b, err := r.Raw(9)
			got[member] = string(b)
			return err
		}
	})
	require.NoError(t, err)
	require.NoError(t, r.End())
	assert.Equal(t, map[string]string{"n": "-42", "f": "1.50false", "s": "aä", "l": "truenull", "skip": `{"x":[1]}`}, got)

	r.Reset([]byte(`{"name":"a"}`))
	assert.False(t, r.Literal(`{"nam":`))
	assert.True(t, r.Literal(`{"name":`))
	start := r.Offset()
	_, err = r.StringBytes()
	require.NoError(t, err)
	r.Back(start)
	s, err := r.String()
	require.NoError(t, err)
	assert.Equal(t, "a", s)
	for _, text := range []string{`5.0`, `9223372036854775808`, `"5"`, `x`} {
		_, err := scan.New([]byte(text)).Int()
		var syntax *scan.SyntaxError
		require.ErrorAs(t, err, &syntax, text)
		assert.Zero(t, syntax.Offset)
	}
	for _, text := range []string{`5.0,`, `5e1,`, `-,`, `-x`, `9223372036854775808,`} {
		_, err := scan.New([]byte(text)).Int()
		assert.Error(t, err, text)
	}
	for text, want := range map[string]int64{
		"-9223372036854775808": -1 << 63, "9223372036854775807": 1<<63 - 1,
		"999999999999999999": 999999999999999999, "-999999999999999999": -999999999999999999, "1000000000000000000": 1000000000000000000,
		"0": 0, "-0": 0, "-7": -7, " 37": 37,
	} {
		for _, behind := range []string{"", ",1"} {
			r := scan.New([]byte(text + behind))
			n, err := r.Int()
			require.NoError(t, err, text)
			assert.Equal(t, want, n)
			assert.Equal(t, len(text), r.Offset())
		}
	}
	r = scan.New([]byte(`01,`))
	n, err := r.Int()
	require.NoError(t, err)
	assert.Zero(t, n)
	assert.Equal(t, 1, r.Offset(), "the caller reads what follows: the end or a comma")
}

// The standard library accepts everything that is accepted here, and reads the same strings.
func FuzzRaw(f *testing.F) {
	for _, s := range []string{`[1,{"a":"\u00e4\ud83d\ude00"}]`, `"\ud800"`, "\"\xff\"", `-0.5e+9`, `{"a":1,"a":2}`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if raw(s) != nil {
			if utf8.ValidString(s) && json.Valid([]byte(s)) && !strings.Contains(s, `\u`) && !strings.Contains(raw(s).Error(), "occurs twice in the object") && strings.Count(s, "[")+strings.Count(s, "{") <= 64 {
				t.Fatalf("%q is refused: %v", s, raw(s))
			}
			return
		}
		if !json.Valid([]byte(s)) {
			t.Fatalf("%q is accepted", s)
		}
		if got, err := scan.New([]byte(s)).String(); err == nil {
			var want string
			if json.Unmarshal([]byte(s), &want) != nil || got != want {
				t.Fatalf("%q is %q, and %q for the standard library", s, got, want)
			}
		}
	})
}
