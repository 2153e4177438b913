package pantry_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/small-pantry/pantry"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A Commit whose reading was overtaken runs again, and the ninth time while
// the others wait.
func TestCommitRunsAgain(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	runs := 0
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		bed := plot.In(b).Get()
		if runs++; runs <= 8 {
			require.NoError(t, plot.In(ns).Set(fmt.Sprint("bed", runs)))
		}
		return plot.In(b).Set(bed + "!")
	}))
	assert.Equal(t, 9, runs)
	assert.Equal(t, "bed8!", plot.In(ns).Get())
}

func TestOpenRefuses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	for _, name := range []string{"", "Plotbook", "a/b", "..", ".a", "con", "lpt1.txt", strings.Repeat("a", 65), "möhre"} {
		_, err := pantry.Open(dir, name)
		assert.ErrorIs(t, err, pantry.ErrInvalid, name)
	}
	_, err := pantry.Open(filepath.Join(dir, "file"), "plotbook")
	assert.Error(t, err)
	_, err = pantry.Open(dir, "plotbook", pantry.ReadOnly())
	assert.ErrorIs(t, err, os.ErrNotExist)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "a reader makes nothing")

	w := open(t, dir)
	require.NoError(t, reminderHour.In(w).Set(7))
	r := open(t, dir, pantry.ReadOnly())
	assert.Equal(t, 7, reminderHour.In(r).Get())
	assert.ErrorIs(t, reminderHour.In(r).Set(8), pantry.ErrReadOnly)
	require.NoError(t, reminderHour.In(w).Set(9))
	require.NoError(t, r.Refresh())
	assert.Equal(t, 9, reminderHour.In(r).Get())
}

func TestPanicsWithTheRemedy(t *testing.T) {
	t.Parallel()
	for remedy, f := range map[string]func(){
		"it is empty":                      func() { pantry.Int("", 0) },
		`empty part`:                       func() { pantry.Int("tank//litres", 0) },
		"breaks its own rule":              func() { pantry.Int("x", 5).Between(0, 4) },
		"in the wrong order":               func() { pantry.Int("x", 5).Between(9, 0) },
		"use Check":                        func() { pantry.Bool("x", true).Between(false, true) },
		"Keep of x needs a list":           func() { pantry.Int("x", 5).Keep(3) },
		"occurs twice":                     func() { pantry.OneOf("x", "a", "b", "a") },
		"needs a function":                 func() { pantry.Int("x", 0).Check(nil) },
		"not UTF-8":                        func() { pantry.Text("x", "\xff") },
		"zero Key":                         func() { var k pantry.Key[int]; k.Name() },
		"zero Var":                         func() { var v pantry.Var[int]; v.Get() },
		"zero Records":                     func() { var r pantry.Records[planting]; r.Len() },
		"nil or zero Batch":                func() { var b *pantry.Batch; plot.In(b) },
		"In of plantings needs":            func() { plantings.In(nil) },
		"Check of plantings needs":         func() { plantings.Check(nil) },
		"takes a struct, not":              func() { pantry.Object("x", 5) },
		"nil or zero Namespace":            func() { var ns *pantry.Namespace; pantry.Int("x", 0).In(ns) },
		"not nil":                          func() { pantry.Int("x", 0).In(nil) },
		"no exported field":                func() { pantry.Object("x", struct{ a int }{}) },
		"use string keys":                  func() { pantry.List[map[int]string]("x") },
		"both stored as":                   func() { pantry.Object("x", struct{ AB, Ab int }{}) },
		"chan int can't be stored":         func() { pantry.List[chan int]("x") },
		"interface type":                   func() { pantry.List[fmt.Stringer]("x") },
		"the default of x has 2 items, an": func() { pantry.List("x", 1, 2).Keep(1) },
	} {
		func() {
			defer func() {
				assert.Contains(t, fmt.Sprint(recover()), remedy)
			}()
			f()
		}()
	}
}

func TestParse(t *testing.T) {
	t.Parallel()
	units := pantry.OneOf("units", "metric", "imperial")
	even := pantry.Int("even", 0).Check(func(n int) error {
		if n%2 != 0 {
			return errors.New("Only even numbers, please.")
		}
		return nil
	})
	say := func(_ any, err error) string {
		if err == nil {
			return ""
		}
		assert.ErrorIs(t, err, pantry.ErrInvalid)
		return err.Error()
	}
	assert.Empty(t, say(reminderHour.Parse(" 7 ")))
	assert.Equal(t, `"25" won't do. Enter a whole number from 0 to 23.`, say(reminderHour.Parse("25")))
	assert.Equal(t, `"7.5" won't do. Enter a whole number from 0 to 23.`, say(reminderHour.Parse("7.5")))
	assert.Equal(t, `Nothing was entered. Enter a whole number from 0 to 23.`, say(reminderHour.Parse("  ")))
	assert.Equal(t, `"300" won't do. Enter a whole number from 0 to 255.`, say(pantry.Int[uint8]("x", 0).Parse("300")))
	assert.Equal(t, `"-200" won't do. Enter a whole number from -128 to 127.`, say(pantry.Int[int8]("x", 0).Parse("-200")))
	assert.Equal(t, `"feet" won't do. Enter one of metric, imperial.`, say(units.Parse("feet")))
	assert.Equal(t, `Only even numbers, please.`, say(even.Parse("3")))
	assert.Equal(t, `"yes" won't do. Enter true or false.`, say(frost.Parse("yes")))
	x, err := plot.Parse(" C4 ")
	assert.NoError(t, err)
	assert.Equal(t, " C4 ", x)
}

// Every text that a user enters has a name of its own, and is returned unchanged.
func TestAtTakesAnyText(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	defer ns.Close()
	watered := pantry.Int("watered", 3)
	seen := map[string]string{}
	for i, title := range []string{"C4", "", ".", "..", "a/b", "50%", "%41", "%2F", "a\nb", "\xff\xfe", "Möhre", "\u0085", "\ufffd", "%", "…", " ", strings.Repeat("x", 248)} {
		k := watered.At(title)
		require.NoError(t, pantry.CheckName(k.Name()), "%q", title)
		assert.Empty(t, seen[k.Name()], "%q has a name of its own", title)
		seen[k.Name()] = title + "!"
		require.NoError(t, k.In(ns).Set(i))
		part, ok := watered.Part(k.Name())
		assert.Equal(t, []any{title, true}, []any{part, ok})
	}
	for name, ok := range map[string]bool{"watered/C4": true, "watered": false, "watered/a/b": false, "water/C4": false} {
		_, is := watered.Part(name)
		assert.Equal(t, ok, is, name)
	}
	long := watered.At(strings.Repeat("x", 249)).In(ns)
	assert.Equal(t, 3, long.Get())
	assert.ErrorIs(t, long.Set(4), pantry.ErrInvalid)
	_, err := pantry.Add(long, 1)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.ErrorIs(t, long.Seed(4), pantry.ErrInvalid)
	_, err = long.Update(func(n int) (int, error) { return n + 1, nil })
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.NoError(t, long.Clear())
	assert.ErrorIs(t, ns.Commit(func(b *pantry.Batch) error { return watered.At(strings.Repeat("x", 249)).In(b).Set(1) }), pantry.ErrInvalid)
	assert.ErrorIs(t, pantry.RecordsOf[struct{ A int }]("r").At("a/..").In(ns).Set(struct{ A int }{1}), pantry.ErrInvalid)
	for e := range ns.Entries("") {
		assert.NoError(t, pantry.CheckName(e.Name))
	}
}
