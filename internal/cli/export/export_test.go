package export

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

// anyValue draws a value of every kind that can be stored, at most so deep.
func anyValue(rt *rapid.T, deep int) value.Value {
	kinds := []value.Kind{value.KindBool, value.KindInt, value.KindFloat, value.KindText, value.KindBytes, value.KindTime}
	if deep > 0 {
		kinds = append(kinds, value.KindList, value.KindMap)
	}
	switch rapid.SampledFrom(kinds).Draw(rt, "kind") {
	case value.KindBool:
		return value.Bool(rapid.Bool().Draw(rt, "bool"))
	case value.KindInt:
		return value.Int(rapid.Int64().Draw(rt, "int"))
	case value.KindFloat:
		return value.Float(rapid.Float64Range(-1e300, 1e300).Draw(rt, "float"))
	case value.KindBytes:
		return value.Bytes(rapid.SliceOfN(rapid.Byte(), 0, 20).Draw(rt, "bytes"))
	case value.KindTime:
		return value.Time(time.Unix(rapid.Int64Range(-62e9, 253e9).Draw(rt, "s"), rapid.Int64Range(0, 999_999_999).Draw(rt, "ns")))
	case value.KindList:
		var items []value.Value
		for range rapid.IntRange(0, 3).Draw(rt, "items") {
			items = append(items, plainValue(rt, deep-1))
		}
		return value.List(items...)
	case value.KindMap:
		var members []value.Member
		for _, name := range rapid.SliceOfNDistinct(rapid.StringN(1, 8, 20), 0, 3, rapid.ID).Draw(rt, "members") {
			members = append(members, value.Member{Name: name, Value: plainValue(rt, deep-1)})
		}
		m, err := value.Map(members...)
		require.NoError(rt, err)
		return m
	}
	return value.Text(strings.ToValidUTF8(rapid.OneOf(rapid.String(), rapid.StringOf(rapid.SampledFrom([]rune(",\"\n\r\\'; äé\x00\u2028"))), rapid.SampledFrom([]string{"a\r\nb", "\r", "\n", "\"\r", " "})).Draw(rt, "text"), ""))
}

// plainValue draws what a list or a map can hold.
func plainValue(rt *rapid.T, deep int) value.Value {
	for {
		if v := anyValue(rt, deep); v.Kind() != value.KindBytes && v.Kind() != value.KindTime {
			return v
		}
	}
}

// Every value comes out of an exported file unchanged, or export says that the format can't hold it.
func TestFormatsCarryEverything(t *testing.T) {
	t.Parallel()
	names := rapid.StringMatching(`[a-zäöü][a-z0-9 ",;'_-]{0,8}(/[a-z"]{1,4})?`)
	rapid.Check(t, func(rt *rapid.T) {
		l := place.Listing{Place: "garden/plotbook", Version: 7, Entries: []entry.Entry{}}
		for _, name := range rapid.SliceOfNDistinct(names, 0, 5, rapid.ID).Draw(rt, "names") {
			l.Entries = append(l.Entries, entry.Entry{Name: name, Value: anyValue(rt, 2), Version: 3, By: "plotbook"})
		}
		for _, f := range []Format{JSON, Lines, CSV} {
			var file bytes.Buffer
			err := f.Encode(&file, l)
			lossy := slices.ContainsFunc(l.Entries, func(e entry.Entry) bool {
				s, ok := e.Value.AsText()
				return f == CSV && ok && strings.Contains(s, "\r\n")
			})
			if lossy {
				require.ErrorContains(rt, err, "CSV can't hold")
				continue
			}
			require.NoError(rt, err)
			back, err := f.Decode(&file)
			require.NoError(rt, err)
			require.Len(rt, back, len(l.Entries))
			for _, e := range l.Entries {
				i := slices.IndexFunc(back, func(b Put) bool { return b.Name == e.Name })
				require.GreaterOrEqual(rt, i, 0, "%q is gone", e.Name)
				require.Equal(rt, value.Known, back[i].Op.Form)
				require.True(rt, value.Equal(e.Value, back[i].Op.Operand), "format %d made %v of %v", f, back[i].Op.Operand, e.Value)
			}
		}
	})
}

// A file that a spreadsheet has saved begins with a byte order mark, which belongs to no name.
func TestByteOrderMark(t *testing.T) {
	t.Parallel()
	for format, text := range map[Format]string{
		JSON: `{"note":"x"}`, Lines: `{"name":"note","kind":"text","value":"x"}` + "\n", CSV: "name,value\nnote,x\n",
	} {
		puts, err := format.Decode(strings.NewReader("\ufeff" + text))
		require.NoError(t, err, format)
		require.Len(t, puts, 1, format)
		require.Equal(t, "note", puts[0].Name, format)
	}
}

// Any bytes as a file are refused or taken, and what is taken is fit to be stored.
func FuzzDecode(f *testing.F) {
	for _, s := range []string{
		`{"entries":[{"name":"a","kind":"int","value":1}]}`, "{\"name\":\"a\",\"kind\":\"text\",\"value\":\"x\"}\n\n", "name,kind,value\na,float,5.0\n\"b\"\"\",text,\"x\ny\"\n",
		`{"entries":null}`, `{"a":1,"b":[1,{"c":null}]}`, `{"a":1,"a":2}`, "name,value\na,1\n", `{"entries":[{}]}`, "name,kind,value\n\"a", "name,kind,value\na,int\n", "\xff",
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, format := range []Format{JSON, Lines, CSV} {
			entries, err := format.Decode(strings.NewReader(s))
			if err != nil {
				continue
			}
			for i, e := range entries {
				require.NoError(t, entry.CheckName(e.Name))
				if e.Op.Form == value.Known {
					require.NoError(t, e.Op.Operand.Check())
					require.True(t, e.Op.Operand.Kind().Storable())
				}
				if i > 0 {
					require.Less(t, entries[i-1].Name, e.Name)
				}
			}
		}
	})
}
