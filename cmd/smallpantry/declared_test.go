package main

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
)

// What keys --go prints compiles, for keys of every kind.
func TestKeysAsGo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	type planting struct{ Crop string }
	ns, err := pantry.Open(dir, "plotbook", pantry.Declare(
		pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind"), pantry.Float("tank/ratio", 0.5).Between(0, 1),
		pantry.Bool("gate/open", true), pantry.Text("plot", `"C4"`), pantry.Bytes("icon", []byte("\x89\x00")), pantry.Time("sown", time.Date(2026, 5, 3, 9, 12, 44, 0, time.UTC)), pantry.Time("moved", time.Time{}),
		pantry.List("hose/queue", "C4").Keep(20), pantry.List("depths", 1, 2), pantry.List[float64]("heights"),
		pantry.Map("notes", map[string]string{"a": "b"}), pantry.RecordsOf[planting]("plantings"),
		pantry.Map("layout", map[string]any{"beds": []any{"C4", 2}, "deep": map[string]any{"cm": 30.5, "none": nil}}), pantry.Text("gate/code", "").Sealed(),
		pantry.OneOf("units", "metric", "imperial", "by eye"),
	))
	require.NoError(t, err)
	require.NoError(t, ns.Close())
	var out strings.Builder
	require.Zero(t, run([]string{"keys", filepath.Join(dir, "plotbook"), "--go"}, nil, &out, os.Stderr))
	for _, line := range []string{
		`ReminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind")`, `TankRatio = pantry.Float("tank/ratio", 0.5).Between(0.0, 1.0)`,
		`Plot = pantry.Text("plot", "\"C4\"")`, `HoseQueue = pantry.List[string]("hose/queue", "C4").Keep(20)`, `Plantings = pantry.RecordsOf[map[string]any]("plantings")`,
		`Depths = pantry.List[int]("depths", 1, 2)`, `Heights = pantry.List[string]("heights")`, `Icon = pantry.Bytes("icon", []byte("\x89\x00"))`,
		`Sown = pantry.Time("sown", time.Date(2026, 5, 3, 9, 12, 44, 0, time.UTC))`, `Notes = pantry.Map("notes", map[string]string{"a": "b"})`,
		`Layout = pantry.Map("layout", map[string]any{"beds": []any{"C4", 2}, "deep": map[string]any{"cm": 30.5, "none": nil}})`,
		`GateCode = pantry.Text("gate/code", "").Sealed()`, `Units = pantry.OneOf("units", "metric", "imperial", "by eye")`,
	} {
		name, rest, _ := strings.Cut(line, " = ")
		assert.Regexp(t, regexp.QuoteMeta(name)+` += `+regexp.QuoteMeta(rest), out.String())
	}
	file := filepath.Join(dir, "keys.go")
	require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o600))
	vet := exec.Command("go", "vet", file)
	vet.Env = environ
	said, err := vet.CombinedOutput()
	require.NoError(t, err, "%s\n%s", said, out.String())
}

// What an app has declared holds for a change from outside too: kind, range,
// default and length.
func TestChangesAsDeclared(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	place := filepath.Join(dir, "plotbook")
	type planting struct{ Crop string }
	ns, err := pantry.Open(dir, "plotbook", pantry.Declare(
		pantry.Int("reminder-hour", 18).Between(0, 23), pantry.Float("tank/ratio", 0.5).Between(0, 1), pantry.Int("watered", 3).Between(0, 9),
		pantry.List("hose/queue", "A1").Keep(3), pantry.RecordsOf[planting]("plantings"), pantry.OneOf("units", "metric", "imperial"), pantry.Int("reminder-minute", 0), pantry.Text("gate-code", "").Sealed(),
	))
	require.NoError(t, err)
	require.NoError(t, ns.Close())
	for _, step := range []struct {
		words, want string
		code        int
	}{
		{"put P reminder-hour 99", "reminder-hour: out of range: 99 is over 23; it is declared from 0 to 23", exitRefused},
		{"put P reminder-hour 7", "7", exitDone},
		{"add P reminder-hour 17", "24 is over 23", exitRefused},
		{"add P reminder-hour -8", "-1 is under 0", exitRefused},
		{"raise P reminder-hour 30", "30 is over 23", exitRefused},
		{"get P reminder-hour", "7", exitDone},
		{"put P reminder-hour soon", "reminder-hour is declared as int: \"soon\" can't be read as int: write a whole number such as 42", exitRefused},
		{"put P reminder-hour soon --kind text", "reminder-hour is declared as int, and can't be stored as text", exitRefused},
		{"put P reminder-hour 8 --kind int", "8", exitDone},
		{"put P units furlongs", "units: \"furlongs\" is not one of metric, imperial", exitRefused},
		{"put P units imperial", "imperial", exitDone},
		{"put P units/C4 furlongs", "is not one of metric, imperial", exitRefused},
		{"put P units 7", "units: \"7\" is not one of metric, imperial", exitRefused},
		{"put P gate-code AAEC", "gate-code is sealed: only its app, which has the key, can write it", exitRefused},
		{"put P gate-code AAEC --kind text", "gate-code is declared as sealed, and can't be stored as text", exitRefused},
		{"put P stray soon", "soon", exitDone},
		{"rename P stray reminder-minute", "reminder-minute: it is declared as int, and text \"soon\" is not", exitRefused},
		{"rename P stray reminder-minute --force", "stray is reminder-minute now", exitDone},
		{"put P reminder-minute 5", "5", exitDone},
		{"put P reminder-hour soon --kind text --force", "soon", exitDone},
		{"add P reminder-hour 1", "reminder-hour is text", exitRefused},
		{"put P reminder-hour 99 --force --kind int", "99", exitDone},
		{"restore P@2", "reminder-hour: 99", exitDone},
		{"put P reminder-hour soon --kind text --force", "soon", exitDone},
		{"put P tank/ratio 1", "1.0", exitDone},
		{"put P tank/ratio 1.5", "1.5 is over 1.0", exitRefused},
		{"add P watered/C4 2", "5", exitDone}, // its family's default is 3
		{"add P watered/C4 5", "10 is over 9", exitRefused},
		{"add P watered/B2 2 --start 0", "2", exitDone},
		{"put P watered/A1 plenty", "plenty", exitRefused},
		{"raise P watered/A1 1", "3", exitDone},
		{"append P hose/queue B2", `["A1","B2"]`, exitDone},
		{"append P hose/queue C4", `["A1","B2","C4"]`, exitDone},
		{"append P hose/queue D5", `["B2","C4","D5"]`, exitDone},
		{"append P hose/queue E6 --keep 1", `["E6"]`, exitDone},
		{"put P plantings 4", "4", exitDone},
		{"put P plantings/4 beans", "map", exitRefused},
	} {
		var out, errs strings.Builder
		code := run(strings.Fields(strings.NewReplacer("P ", place+" ", "P@", place+"@").Replace(step.words)), nil, &out, &errs)
		assert.Equal(t, step.code, code, "%s: %s", step.words, errs.String())
		switch {
		case code == exitDone && strings.HasPrefix(step.words, "re"):
			assert.Contains(t, out.String(), step.want, step.words)
		case code == exitDone:
			assert.Equal(t, step.want+"\n", out.String(), step.words)
		default:
			assert.Contains(t, errs.String(), step.want, step.words)
		}
	}
	var out strings.Builder
	require.Equal(t, exitFailed, run([]string{"check", place}, nil, &out, os.Stderr))
	assert.Regexp(t, "(?m)^wrong-kind +reminder-hour: it is declared as int, and text \"soon\" is not", out.String())

	// Of a file too, and of another place: all or nothing, unless it is forced.
	file := filepath.Join(dir, "in.jsonl")
	other := filepath.Join(dir, "other")
	for _, bad := range []string{`{"name":"units","kind":"text","value":"furlongs"}`, `{"name":"hose/queue","kind":"list","value":[1,2,3,4]}`} {
		bad = `{"name":"watered","kind":"int","value":4}` + "\n" + bad + "\n"
		require.NoError(t, os.WriteFile(file, []byte(bad), 0o600))
		require.Zero(t, run([]string{"import", other, file, "--replace"}, nil, io.Discard, os.Stderr))
		for _, words := range [][]string{{"import", place, file}, {"copy", other, place}} {
			var errs strings.Builder
			assert.Equal(t, exitRefused, run(words, nil, io.Discard, &errs), words)
			assert.Contains(t, errs.String(), "--force skips the check")
			require.Equal(t, exitAbsent, run([]string{"get", place, "watered"}, nil, io.Discard, io.Discard))
		}
	}
	require.Zero(t, run([]string{"copy", other, place, "--force"}, nil, io.Discard, os.Stderr))
	out.Reset()
	require.Equal(t, exitFailed, run([]string{"check", place}, nil, &out, os.Stderr))
	assert.NotRegexp(t, "(?m)^refused", out.String(), "an app reads a list that is too long, and drops its oldest items at the next change")
	require.Zero(t, run([]string{"put", place, "units", "furlongs", "--force"}, nil, io.Discard, os.Stderr))
	out.Reset()
	require.Equal(t, exitFailed, run([]string{"check", place}, nil, &out, os.Stderr))
	assert.Regexp(t, "(?m)^refused +units: \"furlongs\" is not one of metric, imperial; its app shows the default", out.String())
}
