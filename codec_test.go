package pantry_test

import (
	"errors"
	"fmt"
	"math"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

// decodes reads JSON as a struct with one field of type T, called x.
func decodes[T any](t *testing.T, json string) (T, error) {
	type holder struct{ X T }
	v, err := value.ParseAny([]byte(`{"x":` + json + `}`))
	require.NoError(t, err)
	h, err := pantry.Object("holder", holder{}).Decode(v)
	return h.X, err
}

// refused says how a field of type T refuses JSON.
func refused[T any](t *testing.T, json string) string {
	_, err := decodes[T](t, json)
	switch {
	case err == nil:
		return ""
	case errors.Is(err, pantry.ErrWrongKind):
		return "wrong kind"
	case errors.Is(err, pantry.ErrInvalid):
		return "invalid"
	}
	return err.Error()
}

// What a field of a struct, and an item of a list, takes for its own.
func TestWhatFieldsTake(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ got, want string }{
		"int":                    {refused[int](t, `5`), ""},
		"a float in an int":      {refused[int](t, `5.0`), "wrong kind"},
		"a text in an int":       {refused[int](t, `"5"`), "wrong kind"},
		"null in an int":         {refused[int](t, `null`), "wrong kind"},
		"too much for int8":      {refused[int8](t, `128`), "invalid"},
		"too little for int8":    {refused[int8](t, `-129`), "invalid"},
		"negative in a uint8":    {refused[uint8](t, `-1`), "invalid"},
		"too much for uint16":    {refused[uint16](t, `65536`), "invalid"},
		"int in a float":         {refused[float64](t, `5`), ""},
		"int that is no float":   {refused[float64](t, `9007199254740993`), "wrong kind"},
		"too much for float32":   {refused[float32](t, `1e300`), "invalid"},
		"text in a bool":         {refused[bool](t, `"true"`), "wrong kind"},
		"int in a text":          {refused[string](t, `5`), "wrong kind"},
		"time":                   {refused[time.Time](t, `"2026-05-03T09:12:44Z"`), ""},
		"no time":                {refused[time.Time](t, `"noon"`), "invalid"},
		"bytes":                  {refused[[]byte](t, `"AP8="`), ""},
		"no base64":              {refused[[]byte](t, `"AP8"`), "invalid"},
		"a list for a text":      {refused[string](t, `[]`), "wrong kind"},
		"a text for a list":      {refused[[]string](t, `"C4"`), "wrong kind"},
		"a bad item":             {refused[[]string](t, `["C4",5]`), "wrong kind"},
		"an array":               {refused[[2]int](t, `[1,2]`), ""},
		"an array that is short": {refused[[2]int](t, `[1]`), "invalid"},
		"a map":                  {refused[map[string]int](t, `{"a":1}`), ""},
		"a bad value in a map":   {refused[map[string]int](t, `{"a":"1"}`), "wrong kind"},
		"a list for a map":       {refused[map[string]int](t, `[]`), "wrong kind"},
		"null for a pointer":     {refused[*int](t, `null`), ""},
		"a pointer":              {refused[*int](t, `5`), ""},
		"a bad pointer":          {refused[*int](t, `"5"`), "wrong kind"},
		"any":                    {refused[any](t, `[1,"a",null,{"b":2.5}]`), ""},
		"what reads text":        {refused[netip.Addr](t, `"127.0.0.1"`), ""},
		"what can't read it":     {refused[netip.Addr](t, `"home"`), "invalid"},
		"no text to read":        {refused[netip.Addr](t, `5`), "wrong kind"},
		"another struct":         {refused[struct{ Y int }](t, `{"y":5,"z":6}`), ""},
		"a bad struct":           {refused[struct{ Y int }](t, `{"y":"5"}`), "wrong kind"},
	} {
		assert.Equal(t, c.want, c.got, name)
	}
	mixed, err := decodes[any](t, `[1,2.0,"a",true,null,{"b":[]}]`)
	require.NoError(t, err)
	assert.Equal(t, []any{int64(1), 2.0, "a", true, nil, map[string]any{"b": []any{}}}, mixed, "a mixed list keeps its kinds")
}

// Names of fields in the file: tags win, embedded structs give theirs.
func TestNamesOfFields(t *testing.T) {
	t.Parallel()
	type Place struct{ BedName, HTTPAddr string }
	type planted struct {
		Place
		SpacingCm  int
		TotalKG    float64
		Old        int `json:"former,omitempty"`
		Both       int `json:"a" pantry:"b"`
		LeftOut    int `pantry:"-"`
		A1         int
		notStored  int
		XMLVersion string
	}
	_ = planted{}.notStored
	v, err := pantry.Object("x", planted{}).Encode(planted{Place: Place{BedName: "C4"}, LeftOut: 9})
	require.NoError(t, err)
	var names []string
	for _, m := range v.Members() {
		names = append(names, m.Name)
	}
	assert.Equal(t, "[a1 b bed-name former http-addr spacing-cm total-kg xml-version]", fmt.Sprint(names))
	back, err := pantry.Object("x", planted{LeftOut: 3}).Decode(v)
	require.NoError(t, err)
	assert.Equal(t, planted{Place: Place{BedName: "C4"}, LeftOut: 3}, back, "what is left out is as in the default")
}

// A type that holds itself.
func TestRecursiveType(t *testing.T) {
	t.Parallel()
	type bed struct {
		Name  string
		Parts []bed
		Next  *bed
	}
	ns := open(t, t.TempDir())
	garden := bed{"garden", []bed{{"C", []bed{{Name: "C4"}}, nil}}, &bed{Name: "meadow"}}
	v := pantry.Object("beds", bed{}).In(ns)
	require.NoError(t, v.Set(garden))
	got := v.Get()
	assert.Equal(t, "C4", got.Parts[0].Parts[0].Name)
	assert.Equal(t, "meadow", got.Next.Name)
	got.Next.Name, got.Parts[0].Name = "spoilt", "spoilt"
	assert.Equal(t, "meadow", v.Get().Next.Name, "the value of Get is the caller's own copy")
	assert.Equal(t, "C", v.Get().Parts[0].Name)
}

// What can't be stored is refused, and the error names its place.
func TestEncodeRefuses(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	for name, err := range map[string]error{
		"text":     plot.In(ns).Set("a\xff"),
		"NaN":      pantry.List[float64]("l").In(ns).Set([]float64{1, nan()}),
		"uint64":   pantry.Object("o", struct{ N uint64 }{}).In(ns).Set(struct{ N uint64 }{1 << 63}),
		"year":     pantry.Time("t", time.Time{}).In(ns).Set(time.Date(12026, 1, 1, 0, 0, 0, 0, time.UTC)),
		"in a map": pantry.Map[string]("m", nil).In(ns).Set(map[string]string{"a": "\xff"}),
	} {
		assert.ErrorIs(t, err, pantry.ErrInvalid, name)
	}
	assert.Zero(t, ns.Version())
	require.NoError(t, harvest.In(ns).Set(nan()), "by itself NaN is a float like others")
	assert.NotEqual(t, harvest.In(ns).Get(), harvest.In(ns).Get()) // as NaN does
	version := ns.Version()
	require.NoError(t, harvest.In(ns).Set(nan()))
	assert.Equal(t, version, ns.Version(), "NaN to NaN changes nothing")
}

func nan() float64 {
	zero := 0.0
	return zero / zero
}

// No number is cut to fit its field: -1 is no uint64.
func TestNoNumberIsCut(t *testing.T) {
	t.Parallel()
	ns, err := pantry.Open(t.TempDir(), "plotbook", pantry.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	defer ns.Close()
	type wide struct {
		U64 uint64
		U8  uint8
		I8  int8
		F32 float32
	}
	key := pantry.Object("wide", wide{})
	for member, v := range map[string]value.Value{
		"u64": value.Int(-1), "u8": value.Int(256), "i8": value.Int(-129), "f32": value.Float(1e300),
	} {
		m, err := value.Map(value.Member{Name: member, Value: v})
		require.NoError(t, err)
		require.NoError(t, ns.Put("wide", m))
		got, found, err := key.In(ns).Lookup()
		assert.ErrorIs(t, err, pantry.ErrInvalid, member)
		assert.True(t, found)
		assert.Equal(t, wide{}, got, member)
	}
	require.Error(t, key.In(ns).Set(wide{U64: math.MaxUint64}))
}

// The value of Get is the caller's own copy, at any depth, also in an any.
func TestAnyIsCopied(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	defer ns.Close()
	key := pantry.List[any]("mixed", []any{"deep"}, map[string]any{"a": []any{int64(1)}})
	for range 2 { // as the default, and as stored
		v := key.In(ns)
		got := v.Get()
		got[0].([]any)[0] = "changed"
		got[1].(map[string]any)["a"].([]any)[0] = "changed"
		got[1].(map[string]any)["b"] = "new"
		assert.Equal(t, []any{[]any{"deep"}, map[string]any{"a": []any{int64(1)}}}, v.Get())
		require.NoError(t, v.Set(v.Get()))
	}
}
