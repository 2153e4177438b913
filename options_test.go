package pantry_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/seal"
	"github.com/small-pantry/pantry/value"
)

func TestAs(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir, pantry.ClientName("plotbook"))
	other := open(t, dir, pantry.ClientName("tankwatch"))
	require.NoError(t, plot.In(ns).Set("C4"))
	require.NoError(t, plot.In(other).Set("B2"))
	require.NoError(t, plot.In(other).Set("B2"))
	require.NoError(t, reminderHour.In(open(t, dir)).Set(7))
	e, _ := ns.Entry("plot")
	assert.Equal(t, "tankwatch", e.By)
	past, err := ns.History(0)
	require.NoError(t, err)
	var by []string
	for _, c := range past {
		by = append(by, c.By)
	}
	assert.Equal(t, []string{"", "tankwatch", "plotbook"}, by)
	for _, name := range []string{"a\nb", "\xff", strings.Repeat("a", 101)} {
		_, err := pantry.Open(dir, "plotbook", pantry.ClientName(name))
		assert.ErrorIs(t, err, pantry.ErrInvalid)
	}
}

func TestSealed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sealer := must(seal.AESGCM([]byte("0123456789abcdef")))(t)
	other := must(seal.AESGCM([]byte("fedcba9876543210")))(t)
	clear := pantry.Text("gate/code", "")
	code := clear.Sealed()
	ns := open(t, dir, quiet, pantry.Seal(sealer))
	require.NoError(t, clear.In(ns).Set("plain-4711"))
	assert.Equal(t, "plain-4711", code.In(ns).Get(), "what was stored before is still read")
	require.Len(t, ns.Problems(), 2, "two keys of one name differ, and the value is in the clear")
	require.NoError(t, code.In(ns).Set("plain-4711"))
	file, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	assert.NotContains(t, string(file), "4711", "sealing leaves no plain bytes")
	version := ns.Version()
	require.NoError(t, code.In(ns).Set("plain-4711"))
	assert.Equal(t, version, ns.Version(), "the same value sealed once more is no change")
	n := pantry.Int("n", 0).Sealed().In(ns)
	must(pantry.Add(n, 5))(t)
	assert.Equal(t, 6, must(n.Update(func(x int) (int, error) { return x + 1, nil }))(t))
	_, _, err = clear.In(ns).Lookup()
	assert.ErrorIs(t, err, pantry.ErrSealed)
	e, _ := ns.Entry("gate/code")
	require.NoError(t, ns.Put("elsewhere", e.Value))
	_, _, err = pantry.Text("elsewhere", "").Sealed().In(ns).Lookup()
	assert.ErrorIs(t, err, pantry.ErrSealed, "a sealed value can't be moved")
	require.NoError(t, ns.Close())
	for _, opts := range [][]pantry.Option{{quiet}, {quiet, pantry.Seal(other)}} {
		ns := open(t, dir, opts...)
		x, found, err := code.In(ns).Lookup()
		assert.Equal(t, []any{"", true}, []any{x, found})
		assert.ErrorIs(t, err, pantry.ErrSealed)
		_, err = code.In(ns).Update(func(string) (string, error) { return "", nil })
		assert.ErrorIs(t, err, pantry.ErrSealed)
		require.NoError(t, ns.Close())
	}
	_, err = seal.AESGCM([]byte("short"))
	assert.ErrorIs(t, err, pantry.ErrInvalid)
}

func TestLimits(t *testing.T) {
	t.Parallel()
	var problems []string
	ns := open(t, t.TempDir(), pantry.MaxValue(100), pantry.MaxTotal(300), pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err.Error()) }))
	assert.ErrorIs(t, plot.In(ns).Set(strings.Repeat("x", 99)), pantry.ErrTooLarge)
	for i := range 3 {
		err := ns.Put(fmt.Sprint("note", i), value.Text(strings.Repeat("x", 95)))
		assert.Equal(t, i == 2, errors.Is(err, pantry.ErrTooLarge), "%d: %v", i, err)
	}
	require.NoError(t, ns.Put("note0", value.Text("")), "making it smaller is always allowed")
	assert.Empty(t, problems)
	dir := t.TempDir()
	ns = open(t, dir, pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err.Error()) }))
	big := strings.Repeat("x", 70<<10)
	for range 2 {
		require.NoError(t, plot.In(ns).Set(big))
		require.NoError(t, plot.In(ns).Clear())
	}
	require.Len(t, problems, 1, "a large value is reported once")
	assert.ErrorIs(t, plot.In(ns).Set(strings.Repeat("x", 1<<20)), pantry.ErrTooLarge)
}

func TestReset(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir, pantry.Declare(reminderHour, plot, plantings))
	require.NoError(t, plot.In(ns).Set("secret-bed"))
	require.NoError(t, ns.Put("left-by-an-old-version", value.Text("secret-too")))
	must(plantings.In(ns).Add(planting{Crop: "secret-crop"}))(t)
	require.NoError(t, plot.In(ns).Set("C4"))
	version := ns.Version()
	require.NoError(t, ns.Reset())
	assert.Equal(t, "none", plot.In(ns).Get())
	file, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	assert.NotContains(t, string(file), "secret")
	require.NoError(t, ns.Close())

	ns = open(t, dir)
	assert.Greater(t, ns.Version(), version, "versions go on")
	for e := range ns.Entries("") {
		t.Errorf("%s was not reset", e.Name)
	}
	var names []string
	for _, k := range ns.Declared() {
		names = append(names, k.Name)
	}
	assert.Equal(t, []string{"plantings", "plot", "reminder-hour"}, names, "what is declared stays")
	require.NoError(t, plot.In(ns).Set("B2"))
	past, err := ns.History(0)
	require.NoError(t, err)
	assert.Len(t, past, 1)
	assert.Equal(t, "B2", past[0].Changes[0].New.String())
}

func TestAppDir(t *testing.T) {
	disk := &simdisk.DirRecorder{Disk: journal.OS}
	journal.OS = disk
	defer func() { journal.OS = disk.Disk }()
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(home, "config"))
	dir, err := pantry.AppDir("plotbook")
	require.NoError(t, err)
	assert.DirExists(t, dir)
	assert.Contains(t, dir, home)
	above := filepath.Dir(dir)
	assert.Subset(t, disk.Synced, []string{above, filepath.Dir(above)}, "a power cut leaves it, and what is above it")
	given := filepath.Join(home, "files")
	dir, err = pantry.AppDir(given)
	require.NoError(t, err)
	assert.Equal(t, given, dir)
	_, err = pantry.AppDir("../plotbook")
	assert.ErrorIs(t, err, pantry.ErrInvalid)
}
