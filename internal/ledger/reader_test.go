package ledger_test

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/value"
)

// A reading is a reader's output for a file.
type reading struct {
	Is      string            `json:"is"`
	Version int64             `json:"version"`
	Entries map[string][2]any `json:"entries"`
}

// A reader that was written from docs/file-format.md alone reads 300 made
// files, most of them spoiled, as this code does.
func TestAnotherReaderAgrees(t *testing.T) {
	t.Parallel()
	python, err := exec.LookPath("python3")
	if err != nil {
		require.NotEqual(t, "true", os.Getenv("CI"), "python3 is missing: %v", err)
		t.Skipf("python3 is missing: %v", err)
	}
	random := rand.New(rand.NewPCG(7, 3))
	dir := t.TempDir()
	args := []string{filepath.Join("testdata", "reader.py")}
	require.FileExists(t, args[0])
	files := soak.Rounds(100, 300)
	for i := range files {
		name := fmt.Sprint("made-", i)
		makeFile(t, random, dir, name)
		path := journal.DataPath(dir, name)
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, spoil(random, data), 0o600))
		args = append(args, path)
	}
	out, err := exec.Command(python, args...).Output()
	require.NoError(t, err)
	answers := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, answers, files)
	seen := map[string]int{}
	for i, answer := range answers {
		var theirs reading
		require.NoError(t, json.Unmarshal([]byte(answer), &theirs))
		ours := readOurs(t, dir, fmt.Sprint("made-", i))
		if !assert.Equal(t, ours, theirs, "made-%d", i) {
			return
		}
		seen[ours.Is]++
	}
	for _, is := range []string{"sound", "torn", "damaged", "newer", "foreign"} {
		assert.Positive(t, seen[is], "%s among %v", is, seen)
	}
}

// makeFile has a ledger do all kinds of things, with compactions among them.
func makeFile(t *testing.T, random *rand.Rand, dir, name string) {
	o := ledger.Options{Kept: 1 + random.IntN(20), KeptBytes: 1 + random.Int64N(3000), Small: 1 + random.Int64N(20_000)}
	for range 1 + random.IntN(3) {
		l, err := ledger.Open(dir, name, o)
		require.NoError(t, err)
		if random.IntN(4) == 0 { // all goes, and the past with it
			_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
				for _, name := range tx.Names() {
					tx.Drop(name)
				}
				return nil
			})
			require.NoError(t, errors.Join(err, l.Forget()))
		}
		for range random.IntN(40) {
			within := time.Duration(0)
			if random.IntN(3) == 0 {
				within = time.Hour // so that lines say up to where all was synced
			}
			_, err := l.CommitWithin(within, entry.Author{By: "tankwatch"}, ledger.JudgeFunc(func(tx *ledger.Tx) error {
				for range 1 + random.IntN(3) {
					at := fmt.Sprint("beds/", random.IntN(12))
					if random.IntN(4) == 0 {
						tx.Drop(at)
						continue
					}
					e, err := ledger.Encode(anyValue(random, 2))
					require.NoError(t, err)
					tx.Put(at, e)
				}
				if random.IntN(10) == 0 {
					tx.Declare(entry.Declared{Key: entry.Key{Name: "plot", Kind: value.KindText, Default: value.Text("C4"), Keep: random.IntN(9)}})
				}
				if random.IntN(10) == 0 {
					tx.SetSchema(tx.Schema() + 1)
				}
				return nil
			}))
			require.NoError(t, err)
		}
		require.NoError(t, l.Close())
	}
}

func anyValue(random *rand.Rand, deep int) value.Value {
	kinds := 8
	if deep > 0 {
		kinds = 10
	}
	switch random.IntN(kinds) {
	case 0:
		return value.Bool(random.IntN(2) == 0)
	case 1:
		return value.Int(int64(random.Uint64()))
	case 2:
		return value.Int(random.Int64N(100))
	case 3:
		return value.Float([]float64{math.NaN(), math.Inf(1), math.Inf(-1), 5, -0.25, 1e300, random.NormFloat64()}[random.IntN(7)])
	case 4:
		return value.Text([]string{"C4", `{"version":7`, "Möhren \u2028 \"bed\"\n", "\U0001F955", ""}[random.IntN(5)])
	case 5:
		return value.Bytes([]byte{byte(random.Uint32()), 2, 255})
	case 6:
		return value.Time(time.Unix(random.Int64N(4e9), random.Int64N(1e9)))
	case 7:
		return value.Sealed([]byte("not to be read"))
	case 8:
		return value.List(value.Int(random.Int64N(9)), anyInside(random, deep-1))
	}
	m, err := value.Map(value.Member{Name: "wide", Value: anyInside(random, deep-1)}, value.Member{Name: "n", Value: value.Float(2)})
	if err != nil {
		panic(err)
	}
	return m
}

// anyInside returns a value that a list can hold.
func anyInside(random *rand.Rand, deep int) value.Value {
	for {
		switch v := anyValue(random, deep); v.Kind() {
		case value.KindBool, value.KindInt, value.KindText, value.KindList, value.KindMap:
			return v
		}
	}
}

// spoil does to a file what may happen to one.
func spoil(random *rand.Rand, data []byte) []byte {
	at := random.IntN(len(data))
	switch random.IntN(9) {
	case 0:
		return data[:at]
	case 1, 2:
		data[at] ^= 1 << random.IntN(8)
	case 3:
		return append(data, make([]byte, at)...)
	case 4:
		return append(data, data[at:]...)
	case 5: // a newline is lost
		if random.IntN(2) == 0 { // the last but one
			at = max(strings.LastIndexByte(string(data[:len(data)-1]), '\n'), 0)
		}
		for ; at < len(data); at++ {
			if data[at] == '\n' {
				return append(data[:at:at], data[at+1:]...)
			}
		}
	case 6:
		end := strings.IndexByte(string(data), '\n')
		switch head := strings.TrimSuffix(string(data[:end]), string(data[end-18:end])); random.IntN(4) {
		case 0: // of a later format
			head = strings.Replace(head, "small-pantry/1", "small-pantry/2", 1)
			return append(journal.Finish([]byte(head), 0), data[end+1:]...)
		case 1: // a first line without a format
			return append(journal.Finish([]byte(`{"of":"something else"`), 0), data[end+1:]...)
		case 2: // somebody else's
			return []byte("water,420\nsoil,7\n")
		case 3: // several commits in one line
			lines := strings.SplitAfter(string(data[end+1:]), "\n")
			last := lines[max(len(lines)-2, 0)]
			var version int64
			if _, err := fmt.Sscanf(last, `{"version":%d`, &version); err != nil {
				return data
			}
			over := fmt.Appendf(nil, `{"version":%d,"at":"2026-05-03T09:12:44.123Z","over":%d,"end":"5a3f9c10","set":[{"name":"beds/0","kind":"int","value":7,"unit":"l"}]`, version+5, 5)
			if strings.HasSuffix(last, "\n") && !strings.Contains(string(data[:end]), fmt.Sprintf(`"base":%d,`, version)) {
				return append(data, journal.Finish(over, 0)...)
			}
		}
	}
	return data
}

// readOurs opens a file strictly, as a program that writes.
func readOurs(t *testing.T, dir, name string) reading {
	r := reading{Is: "sound", Entries: map[string][2]any{}}
	l, err := ledger.Open(dir, name, ledger.Options{Problem: func(err error) {
		require.ErrorAs(t, err, new(*ledger.CutError))
		r.Is = "torn"
	}})
	damage := (*journal.DamageError)(nil)
	switch {
	case errors.Is(err, journal.ErrForeign):
		return reading{Is: "foreign"}
	case errors.As(err, new(*journal.NewerError)):
		return reading{Is: "newer"}
	case errors.As(err, &damage):
		// Whether it is ours at all is what salvaging looks at.
		l, err := ledger.Open(dir, name, ledger.Options{ReadOnly: true, Salvage: true})
		if errors.Is(err, journal.ErrForeign) {
			return reading{Is: "foreign"}
		}
		require.NoError(t, err)
		require.NoError(t, l.Close())
		return reading{Is: "damaged"}
	}
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	r.Version = l.Version()
	s := l.Snapshot()
	defer s.Release()
	for e := range s.Entries("", "") {
		r.Entries[e.Name] = [2]any{e.Value.Kind().String(), printedValue(e.Value)}
	}
	return r
}

// printedValue returns a value as reader.py prints it.
func printedValue(v value.Value) any {
	switch v.Kind() {
	case value.KindFloat:
		f, _ := v.AsFloat()
		if math.IsNaN(f) {
			return "nan"
		}
		return fmt.Sprintf("%016x", math.Float64bits(f))
	case value.KindTime:
		at, _ := v.AsTime()
		return fmt.Sprint(at.UnixNano())
	case value.KindBytes:
		b, _ := v.AsBytes()
		return hex.EncodeToString(b)
	case value.KindSealed:
		b, _ := v.AsSealed()
		return hex.EncodeToString(b)
	}
	return printedInside(v)
}

func printedInside(v value.Value) any {
	switch v.Kind() {
	case value.KindBool:
		b, _ := v.AsBool()
		return b
	case value.KindText:
		s, _ := v.AsText()
		return s
	case value.KindInt:
		n, _ := v.AsInt()
		return "int " + strconv.FormatInt(n, 10)
	case value.KindFloat:
		f, _ := v.AsFloat()
		return fmt.Sprintf("float %016x", math.Float64bits(f))
	case value.KindList:
		out := []any{}
		for _, e := range v.Items() {
			out = append(out, printedInside(e))
		}
		return out
	}
	out := map[string]any{}
	for _, m := range v.Members() {
		out[m.Name] = printedInside(m.Value)
	}
	return out
}
