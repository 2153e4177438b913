package pantry_test

import (
	"errors"
	"math"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/seal"
	"github.com/small-pantry/pantry/value"
)

// Sealing a value that was in the clear erases it and its past, by any call, and so does clearing it. The
// past of others stays. If the disk refuses that, the value is stored, a problem says what is left, and the
// next launch erases it.
func TestSealingErases(t *testing.T) {
	t.Parallel()
	sealer, err := seal.AESGCM(make([]byte, 32))
	require.NoError(t, err)
	code := pantry.Text("gate/code", "").Sealed()
	for name, seals := range map[string]func(ns *pantry.Namespace) error{
		"Set": func(ns *pantry.Namespace) error { return code.In(ns).Set("rhubarb") },
		"Update": func(ns *pantry.Namespace) error {
			_, err := code.In(ns).Update(func(s string) (string, error) { return s + "!", nil })
			return err
		},
		"the same value": func(ns *pantry.Namespace) error { return code.In(ns).Set("marrow") },
		"Clear":          func(ns *pantry.Namespace) error { return code.In(ns).Clear() },
		"Commit": func(ns *pantry.Namespace) error {
			return ns.Commit(func(b *pantry.Batch) error { return code.In(b).Set("rhubarb") })
		},
		"Clear in Commit": func(ns *pantry.Namespace) error {
			return ns.Commit(func(b *pantry.Batch) error { return code.In(b).Clear() })
		},
	} {
		for _, fails := range []bool{false, true} {
			dir := t.TempDir()
			disk := simdisk.New()
			hooks.Set(dir, hooks.Setting{Disk: disk})
			var problems []string
			ns, err := pantry.Open(dir, "plotbook", pantry.Seal(sealer), pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err.Error()) }))
			require.NoError(t, err)
			require.NoError(t, ns.Put("gate/code", value.Text("marrow-1")))
			require.NoError(t, ns.Put("gate/code", value.Text("marrow")))
			for hour := range 3 {
				require.NoError(t, reminderHour.In(ns).Set(hour))
			}
			if fails {
				disk.Fault(func(op, path string) error {
					if op == "open" && strings.HasSuffix(path, ".new") {
						return syscall.ENOSPC
					}
					return nil
				})
			}
			require.NoError(t, seals(ns), name)
			assert.Equal(t, fails, strings.Contains(string(disk.Read(ns.Path())), "marrow"), name)
			if fails {
				assert.Contains(t, strings.Join(problems, "\n"), "still holds the old values of gate/code", name)
				disk.Fault(nil)
				require.NoError(t, ns.Close())
				ns, err = pantry.Open(dir, "plotbook", pantry.Seal(sealer))
				require.NoError(t, err)
				assert.NotContains(t, string(disk.Read(ns.Path())), "marrow", name)
			}
			past, err := ns.History(0, "reminder-hour")
			require.NoError(t, err)
			assert.Len(t, past, 3, "%s: the past of others stays", name)
			require.NoError(t, ns.Close())
			hooks.Unset(dir)
		}
	}
}

// A program that knows fewer schema steps stores nothing once a newer one has migrated the file.
func TestOlderProgramStopsWriting(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var problems []error
	old := open(t, dir, pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err) }))
	require.NoError(t, old.Put("hour", value.Int(7)))
	rename := func(b *pantry.Batch) error { return b.Rename("hour", "reminder-hour") }
	newer := open(t, dir, pantry.Schema(rename))
	version := newer.Version()
	hour := pantry.Int("hour", 18)
	for name, write := range map[string]func() error{
		"Set":    func() error { return hour.In(old).Set(8) },
		"Add":    func() error { _, err := pantry.Add(hour.In(old), 1); return err },
		"Seed":   func() error { return hour.In(old).Seed(1) },
		"Clear":  func() error { return hour.In(old).Clear() },
		"Put":    func() error { return old.Put("hour", value.Int(8)) },
		"Drop":   func() error { return old.Drop("reminder-hour") },
		"Commit": func() error { return old.Commit(func(b *pantry.Batch) error { return hour.In(b).Set(8) }) },
		"Forget": func() error { return old.Forget("reminder-hour") },
		"Reset":  func() error { return old.Reset() },
	} {
		assert.ErrorIs(t, write(), pantry.ErrNewer, name)
	}
	require.Len(t, problems, 1, "it is reported once")
	assert.ErrorIs(t, problems[0], pantry.ErrNewer)
	assert.Equal(t, version, newer.Version())
	assert.Equal(t, 7, pantry.Int("reminder-hour", 18).In(newer).Get())
	tool := open(t, dir, pantry.AnySchema())
	require.NoError(t, tool.Put("note", value.Text("a tool writes on")))
}

// Under lowered limits, entries can still become smaller.
func TestLoweredLimits(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir)
	require.NoError(t, plot.In(ns).Set(strings.Repeat("x", 500)))
	require.NoError(t, ns.Put("other", value.Text(strings.Repeat("y", 500))))
	require.NoError(t, ns.Close())
	ns = open(t, dir, pantry.MaxValue(100), pantry.MaxTotal(200))
	for _, size := range []int{400, 300, 150} {
		require.NoError(t, plot.In(ns).Set(strings.Repeat("x", size)), size)
	}
	assert.ErrorIs(t, plot.In(ns).Set(strings.Repeat("x", 150)+"!"), pantry.ErrTooLarge, "larger again")
	assert.ErrorIs(t, ns.Commit(func(b *pantry.Batch) error { return plot.In(b).Set(strings.Repeat("x", 160)) }), pantry.ErrTooLarge)
	assert.ErrorIs(t, ns.Put("third", value.Int(1)), pantry.ErrTooLarge, "the namespace is over its limit")
	require.NoError(t, plot.In(ns).Set("x"))
}

// What Format shows, Parse reads, at the ends of the range too. A number that no user enters on
// purpose is refused.
func TestParseAtTheEnds(t *testing.T) {
	t.Parallel()
	every := pantry.Duration("every", 0)
	for _, d := range []time.Duration{math.MaxInt64, math.MinInt64, math.MaxInt64 - 1, math.MinInt64 + 1, 1, -1, 1500 * time.Millisecond, 90 * time.Minute, 16*time.Second + 854775807} {
		got, err := every.Parse(every.Format(d))
		require.NoError(t, err, every.Format(d))
		assert.Equal(t, d, got, every.Format(d))
	}
	for _, typed := range []string{"2562047h47m16.854775808s", "-2562047h47m16.854775809s", "300000 days", "1e9h"} {
		_, err := every.Parse(typed)
		assert.Error(t, err, typed)
	}
	kg := pantry.Float("harvest", 0)
	for _, typed := range []string{"NaN", "nan", "+Inf", "-Inf", "Infinity"} {
		_, err := kg.Parse(typed)
		assert.Error(t, err, typed)
	}
	x, err := kg.Between(math.Inf(-1), math.Inf(1)).Parse("-Inf")
	require.NoError(t, err)
	assert.True(t, math.IsInf(x, -1), "a key whose range has it allows it")
}

// Forget and Reset name the copies that can still hold what they erased. Repair removes them.
func TestCopiesAreNamed(t *testing.T) {
	t.Parallel()
	dir := hurt(t)
	var problems []string
	ns, err := pantry.Open(dir, "plotbook", pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err.Error()) }))
	require.NoError(t, err)
	copies, err := filepath.Glob(filepath.Join(dir, "plotbook.damaged-*"))
	require.NoError(t, err)
	require.Len(t, copies, 1)
	problems = nil
	require.NoError(t, ns.Forget("plot"))
	require.NoError(t, ns.Reset())
	require.Len(t, problems, 2)
	assert.Contains(t, problems[0], copies[0])
	require.NoError(t, ns.Close())
	r, err := pantry.Repair(dir, "plotbook", pantry.RemoveCopies())
	require.NoError(t, err)
	assert.Equal(t, copies, r.Removed)
	assert.NoFileExists(t, copies[0])
	r, err = pantry.Repair(dir, "plotbook", pantry.RemoveCopies())
	require.NoError(t, err)
	assert.Empty(t, r.Removed)
}

// On a full disk, Reset says how much room is missing.
func TestResetOnAFullDisk(t *testing.T) {
	t.Parallel()
	dir, disk := t.TempDir(), simdisk.New()
	hooks.Set(dir, hooks.Setting{Disk: disk})
	defer hooks.Unset(dir)
	ns, err := pantry.Open(dir, "plotbook", quiet)
	require.NoError(t, err)
	require.NoError(t, plot.In(ns).Set("C4"))
	disk.Space(10)
	err = ns.Reset()
	require.ErrorIs(t, err, pantry.ErrNotStored)
	assert.Regexp(t, `\d+ bytes are needed, and 0 are free`, err.Error())
	assert.Equal(t, "C4", plot.In(ns).Get())
	disk.Space(-1)
	require.NoError(t, ns.Reset())
	require.NoError(t, errors.Join(ns.Close(), os.RemoveAll(dir)))
}
