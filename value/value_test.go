package value_test

import (
	"math"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

func mapOf(t require.TestingT, members ...value.Member) value.Value {
	v, err := value.Map(members...)
	require.NoError(t, err)
	return v
}

// The JSON forms that stand in files; the second is read as the first.
func TestJSONForm(t *testing.T) {
	t.Parallel()
	moment := time.Date(2026, 5, 3, 9, 12, 44, 123456789, time.UTC)
	for _, c := range []struct {
		v    value.Value
		form string
	}{
		{value.Bool(true), `true`},
		{value.Int(math.MaxInt64), `9223372036854775807`},
		{value.Int(math.MinInt64), `-9223372036854775808`},
		{value.Float(5), `5.0`},
		{value.Float(math.Copysign(0, -1)), `-0.0`},
		{value.Float(1e21), `1e+21`},
		{value.Float(1e20), `100000000000000000000.0`},
		{value.Float(2.5e-7), `2.5e-07`},
		{value.Float(math.NaN()), `"NaN"`},
		{value.Float(math.Inf(1)), `"+Inf"`},
		{value.Float(math.Inf(-1)), `"-Inf"`},
		{value.Text("Möhre\n\"\\\x00\x7f<&>\u2028"), "\"Möhre\\n\\\"\\\\\\u0000\\u007f<&>\u2028\""},
		{value.Text(""), `""`},
		{value.Bytes([]byte{0, 255}), `"AP8="`},
		{value.Sealed([]byte("x")), `"eA=="`},
		{value.Time(moment), `"2026-05-03T09:12:44.123456789Z"`},
		{value.List(), `[]`},
		{value.List(value.Int(5), value.Float(5), value.Text("5"), value.Null()), `[5,5.0,"5",null]`},
		{mapOf(t, value.Member{"b", value.Int(1)}, value.Member{"a", value.List()}), `{"a":[],"b":1}`},
	} {
		require.NoError(t, c.v.Check())
		assert.Equal(t, c.form, string(c.v.AppendJSON(nil)))
		back, err := value.Parse(c.v.Kind(), []byte(c.form))
		require.NoError(t, err, c.form)
		assert.True(t, value.Equal(c.v, back), c.form)
		back, n, err := value.ParsePrefix(c.v.Kind(), []byte(c.form+",0"))
		require.NoError(t, err, c.form)
		assert.Equal(t, []any{len(c.form), true}, []any{n, value.Equal(c.v, back)}, c.form)
		assert.Equal(t, c.v.Kind(), value.KindNamed([]byte(c.v.Kind().String())))
	}
}

func TestParseRefuses(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		kind value.Kind
		form string
		is   error
	}{
		{value.KindInt, `5.0`, value.ErrWrongKind},
		{value.KindInt, `5e0`, value.ErrWrongKind},
		{value.KindInt, `"5"`, value.ErrWrongKind},
		{value.KindInt, `9223372036854775808`, value.ErrInvalid},
		{value.KindInt, `05`, value.ErrInvalid},
		{value.KindInt, `+5`, value.ErrInvalid},
		{value.KindInt, `5 6`, value.ErrInvalid},
		{value.KindFloat, `5`, value.ErrWrongKind},
		{value.KindFloat, `1e999`, value.ErrInvalid},
		{value.KindFloat, `"nan"`, value.ErrWrongKind},
		{value.KindBool, `null`, value.ErrWrongKind},
		{value.KindText, "\"\xff\"", value.ErrInvalid},
		{value.KindText, `"\ud800"`, value.ErrInvalid},
		{value.KindText, `"\ud800A"`, value.ErrInvalid},
		{value.KindText, "\"a\nb\"", value.ErrInvalid},
		{value.KindText, `"a`, value.ErrInvalid},
		{value.KindText, `"\x"`, value.ErrInvalid},
		{value.KindBytes, `"AP8"`, value.ErrInvalid},
		{value.KindTime, `"yesterday"`, value.ErrInvalid},
		{value.KindList, `[1,]`, value.ErrInvalid},
		{value.KindList, `{}`, value.ErrWrongKind},
		{value.KindMap, `{"a":1,"a":2}`, value.ErrInvalid},
		{value.KindMap, `{"a":1,"\u0061":2}`, value.ErrInvalid},
		{value.KindMap, `{"a":{"b":1,"b":1}}`, value.ErrInvalid},
		{value.KindList, strings.Repeat("[", 65) + strings.Repeat("]", 65), value.ErrInvalid},
		{value.KindNone, ``, value.ErrInvalid},
		{value.KindNone, `nul`, value.ErrInvalid},
	} {
		_, err := value.Parse(c.kind, []byte(c.form))
		assert.ErrorIs(t, err, c.is, "%s as %s", c.form, c.kind)
	}
	deep, err := value.ParseAny([]byte(strings.Repeat("[", 64) + strings.Repeat("]", 64)))
	require.NoError(t, err)
	assert.ErrorIs(t, value.List(deep).Check(), value.ErrInvalid)
	v, err := value.ParseAny([]byte(`"😀\/"`))
	require.NoError(t, err)
	assert.Equal(t, "😀/", v.String())
}

func TestCheck(t *testing.T) {
	t.Parallel()
	for _, v := range []value.Value{
		{}, value.Null(), value.Text("\xff"), value.List(value.Text("a\xffb")), value.List(value.Float(math.NaN())),
		value.List(value.Bytes(nil)), value.List(value.Time(time.Now())), value.Time(time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC)),
		mapOf(t, value.Member{"\xff", value.Int(1)}),
	} {
		assert.ErrorIs(t, v.Check(), value.ErrInvalid, "%v", v)
	}
	_, err := value.Map(value.Member{"a", value.Int(1)}, value.Member{"a", value.Int(1)})
	assert.ErrorIs(t, err, value.ErrInvalid)
}

func TestEqual(t *testing.T) {
	t.Parallel()
	ab, ba := mapOf(t, value.Member{"a", value.Int(1)}, value.Member{"b", value.Int(2)}), mapOf(t, value.Member{"b", value.Int(2)}, value.Member{"a", value.Int(1)})
	for _, c := range []struct {
		a, b value.Value
		same bool
	}{
		{value.Int(5), value.Int(5), true},
		{value.Int(5), value.Float(5), false},
		{value.Text("5"), value.Int(5), false},
		{value.Float(math.NaN()), value.Float(-math.NaN()), true},
		{value.Float(0), value.Float(math.Copysign(0, -1)), true},
		{value.List(value.Int(1), value.Int(2)), value.List(value.Int(2), value.Int(1)), false},
		{value.List(value.Float(math.NaN())), value.List(value.Float(math.NaN())), true},
		{ab, ba, true},
		{value.Value{}, value.Value{}, true},
		{value.Bytes([]byte("a")), value.Text("a"), false},
		{value.Time(time.Unix(5, 0)), value.Time(time.Unix(5, 0).In(time.FixedZone("", 3600))), true},
		{value.Time(time.Unix(5, 0)), value.Time(time.Unix(5, 1)), false},
	} {
		assert.Equal(t, c.same, value.Equal(c.a, c.b), "%v, %v", c.a, c.b)
		assert.Equal(t, c.same, value.Equal(c.b, c.a), "%v, %v", c.b, c.a)
	}
}

func TestConvertAndCompare(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		v    value.Value
		to   value.Kind
		want value.Value // none: refused
	}{
		{value.Int(5), value.KindFloat, value.Float(5)},
		{value.Int(1<<53 + 1), value.KindFloat, value.Value{}},
		{value.Float(5), value.KindInt, value.Int(5)},
		{value.Float(5.5), value.KindInt, value.Value{}},
		{value.Float(math.NaN()), value.KindInt, value.Value{}},
		{value.Float(1 << 63), value.KindInt, value.Value{}},
		{value.Text("5"), value.KindInt, value.Value{}},
		{value.Int(1), value.KindBool, value.Value{}},
	} {
		got, err := value.Convert(c.v, c.to)
		assert.True(t, value.Equal(c.want, got), "%v", c.v)
		if c.want.IsZero() {
			assert.ErrorIs(t, err, value.ErrWrongKind)
		}
	}
	for _, c := range []struct {
		a, b  value.Value
		order int
	}{
		{value.Int(math.MaxInt64), value.Float(1 << 63), -1},
		{value.Int(math.MinInt64), value.Float(-1 << 63), 0},
		{value.Int(5), value.Float(5.5), -1},
		{value.Int(-5), value.Float(-5.5), 1},
		{value.Int(1<<53 + 1), value.Float(1 << 53), 1},
		{value.Float(math.Inf(1)), value.Int(3), 1},
		{value.Text("a"), value.Text("b"), -1},
		{value.Time(time.Unix(1, 0)), value.Time(time.Unix(0, 9)), 1},
	} {
		order, ok := value.Compare(c.a, c.b)
		assert.True(t, ok)
		assert.Equal(t, c.order, order, "%v, %v", c.a, c.b)
		order, _ = value.Compare(c.b, c.a)
		assert.Equal(t, -c.order, order, "%v, %v", c.b, c.a)
	}
	for _, v := range []value.Value{value.Float(math.NaN()), value.Text("1"), value.List()} {
		_, ok := value.Compare(value.Int(1), v)
		assert.False(t, ok)
	}
}

func TestTyped(t *testing.T) {
	t.Parallel()
	for typed, want := range map[string]value.Value{
		"true": value.Bool(true), "5": value.Int(5), "-5": value.Int(-5), "5.0": value.Float(5), "1e3": value.Float(1000),
		"0042": value.Text("0042"), "5 ": value.Text("5 "), "": value.Text(""), "-": value.Text("-"), "C4": value.Text("C4"),
		"True": value.Text("True"), `["C4",1]`: value.List(value.Text("C4"), value.Int(1)), ".5": value.Text(".5"), "+5": value.Text("+5"),
	} {
		got, err := value.Infer(typed)
		require.NoError(t, err)
		assert.True(t, value.Equal(want, got), "%q is %v", typed, got.Kind())
	}
	for _, typed := range []string{"[1,", "{x}", "99999999999999999999"} {
		_, err := value.Infer(typed)
		assert.ErrorIs(t, err, value.ErrInvalid)
	}
	for _, c := range []struct {
		kind  value.Kind
		typed string
		want  value.Value
	}{
		{value.KindText, "5", value.Text("5")}, {value.KindFloat, "5", value.Float(5)}, {value.KindFloat, "NaN", value.Float(math.NaN())},
		{value.KindInt, "5.0", value.Int(5)}, {value.KindBytes, "AP8=", value.Bytes([]byte{0, 255})},
		{value.KindTime, "1970-01-01T01:00:05+01:00", value.Time(time.Unix(5, 0))}, {value.KindMap, `{"a":1}`, mapOf(t, value.Member{"a", value.Int(1)})},
		{value.KindInt, "5.5", value.Value{}}, {value.KindInt, "", value.Value{}}, {value.KindBool, "yes", value.Value{}},
		{value.KindList, "{}", value.Value{}}, {value.KindTime, "noon", value.Value{}},
	} {
		got, err := value.FromTyped(c.kind, c.typed)
		assert.Equal(t, c.want.IsZero(), err != nil, "%q as %s: %v", c.typed, c.kind, err)
		if err == nil {
			assert.True(t, value.Equal(c.want, got), "%q as %s", c.typed, c.kind)
		}
	}
}

// Bytes have one spelling in base64 (RFC 4648): with padding, no line breaks,
// and no bits that mean nothing.
func TestBase64IsStrict(t *testing.T) {
	t.Parallel()
	for text, ok := range map[string]bool{
		"AP8=": true, "": true, "AP8": false, "AP9=": false, "AP8=\n": false, "A\nP8=": false, "A\rP8=": false, "AP8==": false, " AP8=": false, "_w==": false,
	} {
		for _, k := range []value.Kind{value.KindBytes, value.KindSealed} {
			_, err := value.FromTyped(k, text)
			assert.Equal(t, ok, err == nil, "%q: %v", text, err)
		}
	}
}

// drawValue draws any value that can be stored.
func drawValue(t *rapid.T, depth int) value.Value {
	most := 8
	if depth == 0 {
		most = 6
	}
	switch rapid.IntRange(0, most).Draw(t, "kind") {
	case 0:
		return value.Bool(rapid.Bool().Draw(t, "bool"))
	case 1, 2:
		return value.Int(rapid.Int64().Draw(t, "int"))
	case 3:
		f := rapid.Float64().Draw(t, "float")
		if math.IsNaN(f) || math.IsInf(f, 0) {
			f = 1
		}
		return value.Float(f)
	case 4, 5, 6:
		return value.Text(rapid.String().Draw(t, "text"))
	case 7:
		items := make([]value.Value, rapid.IntRange(0, 3).Draw(t, "items"))
		for i := range items {
			items[i] = drawValue(t, depth-1)
		}
		return value.List(items...)
	}
	var members []value.Member
	for _, name := range rapid.SliceOfNDistinct(rapid.String(), 0, 3, rapid.ID).Draw(t, "names") {
		members = append(members, value.Member{Name: name, Value: drawValue(t, depth-1)})
	}
	return mapOf(t, members...)
}

// The length of a number is known without writing it.
func TestLengthOfInts(t *testing.T) {
	t.Parallel()
	all := []int64{0, math.MaxInt64, math.MinInt64}
	for n := int64(1); n < math.MaxInt64/10; n *= 10 {
		all = append(all, n-1, n, -n, 1-n)
	}
	for _, n := range all {
		assert.Equal(t, len(strconv.FormatInt(n, 10)), value.Int(n).JSONLen(), n)
	}
}

func TestAnyValueSurvives(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		v := drawValue(t, 3)
		require.NoError(t, v.Check())
		assert.Equal(t, len(v.AppendJSON(nil)), v.JSONLen())
		back, err := value.ParseAny(v.AppendJSON(nil))
		require.NoError(t, err)
		assert.True(t, value.Equal(v, back))
		typed, err := value.FromTyped(v.Kind(), v.String())
		require.NoError(t, err)
		assert.True(t, value.Equal(v, typed))
	})
}

// What is accepted comes out in a form that is accepted again, and means the same.
func FuzzParse(f *testing.F) {
	for _, s := range []string{`5`, `-0.0`, `1e5`, `"ä\ud83d\ude00"`, `[1,[2.0,{"a":null}]]`, `{"a":1,"b":[]}`, `"NaN"`, `[[[`, `{"a":1,"a":2}`, "\"\xff\""} {
		f.Add(s, uint8(0))
		f.Add(s, uint8(value.KindTime))
	}
	f.Fuzz(func(t *testing.T, s string, kind uint8) {
		k := value.Kind(kind) % (value.KindSealed + 1)
		v, err := value.Parse(k, []byte(s))
		if err != nil {
			return
		}
		again, err := value.Parse(v.Kind(), v.AppendJSON(nil))
		if v.Kind() != value.KindNull && (err != nil || !value.Equal(v, again)) {
			t.Fatalf("%s became %s: %v", s, v.AppendJSON(nil), err)
		}
	})
}
