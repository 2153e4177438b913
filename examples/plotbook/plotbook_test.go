package main

import (
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
	"github.com/small-pantry/pantry/internal/cli/term/termtest"
	_ "github.com/small-pantry/pantry/internal/test/hang"
)

func launch(t *testing.T, dir string) *termtest.Screen {
	return termtest.Launch(t, func(in io.Reader, out io.Writer) error { return run(context.Background(), dir, in, out) })
}

const (
	enter = "\r"
	down  = "\x1b[B"
	esc   = "\x1b"
)

func TestRestoresItself(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := launch(t, dir)
	s.Shows("18:00", "metric", "none yet")
	s.Types(enter + "25" + enter)
	s.Shows(`"25" won't do. Enter a whole number from 0 to 23.`)
	s.Types("\x7f\x7f7" + enter)
	s.Shows("7:00", "Stored.")
	s.Types(down + enter)
	s.Shows("imperial")
	s.Types(down + enter + "z9" + enter)
	s.Shows("The garden's beds are A1 to H9.")
	s.Types("\x7f\x7fc4" + enter)
	s.Shows("C4")
	s.Types(down + enter + "beans" + enter)
	s.Shows("as in: beans, C4, 30")
	s.Types(",C4,30" + enter)
	s.Shows("Bed C4", "11.8 in")
	s.Quit("q")

	s = launch(t, dir)
	s.Shows("7:00", "imperial", "C4", "beans", "11.8 in")
	s.Types("r")
	s.Shows("Reset everything?")
	s.Types("n")
	s.Shows("Nothing was reset.")
	s.Types("r")
	s.Shows("Reset everything?")
	s.Types("y")
	s.Shows("18:00", "metric", "none yet", "Everything is as at the first launch.")
	s.Quit("q")

	s = launch(t, dir)
	s.Shows("18:00", "metric", "none yet")
	s.Quit("q")
}

func TestFollowsAnotherProgram(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := launch(t, dir)
	s.Shows("18:00")
	other, err := pantry.Open(dir, "plotbook")
	require.NoError(t, err)
	require.NoError(t, keys.ReminderHour.In(other).Set(21))
	s.Shows("21:00")
	id, err := keys.Plantings.In(other).Add(keys.Planting{Crop: "peas", Bed: "B2", SpacingCm: 5})
	require.NoError(t, err)
	s.Shows("peas")
	s.Types(down + down + down + "x")
	s.Shows("Removed.")
	_, found, err := keys.Plantings.In(other).Lookup(id)
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, other.Close())
	s.Types(down + enter)
	s.Shows("esc: leave")
	s.Types(esc)
	s.Shows("q: quit")
	s.Quit("q")
}

// What is typed in one line is refused part by part, the first that is wrong by its own sentence.
func TestLine(t *testing.T) {
	t.Parallel()
	for typed, want := range map[string]string{
		"beans":           "Enter crop, bed and spacing in cm, as in: beans, C4, 30",
		", C4, 30":        "Enter what is planted.",
		"beans, , 30":     "Enter the bed.",
		"beans, Z9, many": "The garden's beds are A1 to H9.",
		"beans, C4, 0":    `"0" won't do. Enter a whole number from 1 to 300.`,
	} {
		_, err := parsePlanting(typed)
		assert.EqualError(t, err, want, typed)
	}
	p, err := parsePlanting(" beans , c4 , 30 ")
	require.NoError(t, err)
	assert.Equal(t, []any{"beans", "C4", 30}, []any{p.Crop, p.Bed, p.SpacingCm})
	_, err = keys.Sown.Parse(p.Sown)
	assert.NoError(t, err)
}
