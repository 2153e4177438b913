package keycode

import (
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/scan"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNames(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{"reminder-hour": "ReminderHour", "tank/litres": "TankLitres", "4x": "Key4x", "a": "A", "möhre": "Möhre", "a__b": "AB"} {
		assert.Equal(t, want, goName(name))
	}
}

var update = flag.Bool("update", false, "write the golden file again")

// everyKind declares a key of each kind, a collection, and what a declaration can say.
func everyKind(t *testing.T) []entry.Declared {
	t.Helper()
	var keys []entry.Declared
	for _, line := range []string{
		`{"name":"frost/warning","kind":"bool","default":false,"about":"whether frost is likely"}`,
		`{"name":"tank/litres","kind":"int","default":400,"min":0,"max":5000}`,
		`{"name":"spacing-m","kind":"float","default":0.3,"min":0.0,"max":5.0}`,
		`{"name":"plot","kind":"text","default":"C4 \"north\" $1"}`,
		`{"name":"units","kind":"text","default":"metric","choices":["metric","imperial"]}`,
		`{"name":"bed","kind":"text","default":"C4","choices":["C4","B2"]}`,
		`{"name":"stamp","kind":"bytes","default":""}`,
		`{"name":"photo","kind":"bytes","default":"AAEC"}`,
		`{"name":"sown","kind":"time","default":"2026-05-03T09:12:44Z"}`,
		`{"name":"hose/queue","kind":"list","default":[],"keep":5}`,
		`{"name":"levels","kind":"list","default":[]}`,
		`{"name":"per-bed","kind":"map","default":{"C4":1}}`,
		`{"name":"gate-code","kind":"sealed"}`,
		`{"name":"plantings","kind":"map","family":true,"about":"what grows where"}`,
		`{"name":"best","kind":"int","family":true}`,
		`{"name":"notes","kind":"map","family":true}`,
	} {
		var r scan.Reader
		r.Reset([]byte(line))
		k, err := entry.ReadDeclared(&r)
		require.NoError(t, err, line)
		keys = append(keys, k)
	}
	return keys
}

func everyPlace(t *testing.T, onBoard bool) Place {
	t.Helper()
	of := func(json string) value.Value {
		v, err := value.ParseAny([]byte(json))
		require.NoError(t, err)
		return v
	}
	return Place{
		Board: onBoard, Dir: "garden", Name: "plotbook", Link: "http://127.0.0.1:8437/boards/rowan-street", Keys: everyKind(t),
		Entries: []entry.Entry{
			{Name: "levels", Value: of(`[1,2]`)},
			{Name: "plantings/1", Value: of(`{"crop":"beans","bed":"C4","spacing-cm":30,"done":true}`)},
			{Name: "plantings/2", Value: of(`{"crop":"peas","spacing-cm":7.5}`)},
		},
	}
}

// What is printed as Go compiles, for a device and for a board.
func TestGoCompiles(t *testing.T) {
	t.Parallel()
	for _, onBoard := range []bool{false, true} {
		code, err := everyPlace(t, onBoard).Go()
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "main.go")
		require.NoError(t, os.WriteFile(file, code, 0o600))
		out, err := exec.Command("go", "vet", file).CombinedOutput()
		require.NoError(t, err, "%s\n%s", out, code)
		assert.Contains(t, string(code), "SpacingCm float64 `pantry:\"spacing-cm\"`")
		assert.Contains(t, string(code), `pantry.List[int]("levels")`)
	}
	code, err := Place{Dir: "garden", Name: "plotbook"}.Go()
	require.NoError(t, err)
	assert.Contains(t, string(code), "func main()")
}

// The Kotlin code is the one that the tests of the bindings compile. No compiler for Swift is here.
func TestOtherLanguages(t *testing.T) {
	t.Parallel()
	for file, onBoard := range map[string]bool{"Generated.kt": false, "GeneratedBoard.kt": true} {
		code, err := everyPlace(t, onBoard).Kotlin()
		require.NoError(t, err)
		code = append([]byte(map[bool]string{false: "package generated\n\n", true: "package generatedboard\n\n"}[onBoard]), code...)
		golden := filepath.Join("..", "..", "bindings", "testdata", "kotlin", file)
		if *update {
			require.NoError(t, os.WriteFile(golden, code, 0o600))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(code), "write it again with: go test ./internal/keycode -update")
	}
	code, err := everyPlace(t, false).Swift()
	require.NoError(t, err)
	assert.Contains(t, string(code), `let tankLitres = Key.int("tank/litres", 400, in: 0...5000)`)
	assert.Contains(t, string(code), `let sown = Key.time("sown", Date(timeIntervalSince1970: 1777799564.000))`)
	assert.Contains(t, string(code), "// photo (bytes) can't be declared", "its default can't be declared")
	assert.Contains(t, string(code), `case c4 = "C4", b2 = "B2"`)
	assert.Equal(t, "ähre", camel("ähre"))
}
