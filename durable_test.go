package pantry_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/seal"
	"github.com/small-pantry/pantry/value"
)

// hurt writes a namespace with three commits, damages a byte of the first, and returns its directory.
func hurt(t *testing.T) (dir string) {
	dir = t.TempDir()
	ns := open(t, dir)
	require.NoError(t, reminderHour.In(ns).Set(7))
	require.NoError(t, plot.In(ns).Set("C4"))
	require.NoError(t, frost.In(ns).Set(true))
	require.NoError(t, ns.Close())
	file, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	file[bytes.Index(file, []byte(`"value":7`))+8]++
	require.NoError(t, os.WriteFile(ns.Path(), file, 0o600))
	return dir
}

func TestDamage(t *testing.T) {
	t.Parallel()
	t.Run("strict", func(t *testing.T) {
		dir := hurt(t)
		_, err := pantry.Open(dir, "plotbook", pantry.Strict())
		assert.ErrorIs(t, err, pantry.ErrDamaged)
		assert.ErrorContains(t, err, "line 2")
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, left, 2, "nothing is touched")
	})
	t.Run("read-only", func(t *testing.T) {
		dir := hurt(t)
		before, err := os.ReadFile(filepath.Join(dir, "plotbook.jsonl"))
		require.NoError(t, err)
		ns := open(t, dir, pantry.ReadOnly(), quiet)
		assert.Equal(t, []any{18, "C4", true}, []any{reminderHour.In(ns).Get(), plot.In(ns).Get(), frost.In(ns).Get()})
		require.NoError(t, ns.Refresh())
		require.Len(t, ns.Problems(), 1)
		after, err := os.ReadFile(filepath.Join(dir, "plotbook.jsonl"))
		require.NoError(t, err)
		assert.Equal(t, string(before), string(after))
	})
	t.Run("an app must start", func(t *testing.T) {
		dir := hurt(t)
		ns := open(t, dir, quiet)
		assert.Equal(t, []any{18, "C4", true}, []any{reminderHour.In(ns).Get(), plot.In(ns).Get(), frost.In(ns).Get()})
		require.Len(t, ns.Problems(), 1)
		err := ns.Problems()[0].Err
		assert.ErrorIs(t, err, pantry.ErrDamaged)
		var damage *pantry.DamageError
		require.ErrorAs(t, err, &damage)
		assert.Equal(t, 2, damage.Entries)
		require.Len(t, damage.Lost, 1)
		assert.Equal(t, 2, damage.Lost[0].Line)
		kept, err := os.ReadFile(damage.Copy)
		require.NoError(t, err)
		assert.Contains(t, string(kept), `"value":8`, "the damaged file is kept beside")
		require.NoError(t, reminderHour.In(ns).Set(9))
		require.NoError(t, ns.Close())
		assert.Equal(t, 9, reminderHour.In(open(t, dir)).Get())
	})
	t.Run("repair", func(t *testing.T) {
		dir := hurt(t)
		r, err := pantry.Repair(dir, "plotbook")
		require.NoError(t, err)
		assert.True(t, r.Damaged)
		assert.Equal(t, 2, r.Entries)
		r, err = pantry.Repair(dir, "plotbook")
		require.NoError(t, err)
		assert.Equal(t, pantry.Report{Path: filepath.Join(dir, "plotbook.jsonl")}, r, "what is in good health stays as it is")
		_, err = pantry.Repair(dir, "absent")
		assert.ErrorIs(t, err, os.ErrNotExist)
		_, err = pantry.Repair(dir, "No")
		assert.ErrorIs(t, err, pantry.ErrInvalid)
	})
	t.Run("a torn end is none", func(t *testing.T) {
		dir := hurt(t)
		path := filepath.Join(dir, "plotbook.jsonl")
		file, err := os.ReadFile(path)
		require.NoError(t, err)
		lines := strings.SplitAfter(string(file), "\n")
		require.NoError(t, os.WriteFile(path, []byte(lines[0]+lines[2][:30]), 0o600))
		r, err := pantry.Repair(dir, "plotbook")
		require.NoError(t, err)
		assert.False(t, r.Damaged)
		assert.Equal(t, []pantry.Lost{{Line: 2, Offset: int64(len(lines[0])), Bytes: 30, Reason: "it has no end"}}, r.Lost)
	})
}

func TestSyncWithin(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir, pantry.SyncWithin(time.Hour)) // 250 ms is the most
	for hour := range 5 {
		require.NoError(t, reminderHour.In(ns).Set(hour))
	}
	other := open(t, t.TempDir())
	file, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	assert.Equal(t, 5, strings.Count(string(file), `"set"`), "it is written when Set returns")
	assert.Contains(t, string(file), `"synced":0`)
	require.NoError(t, ns.Flush())
	require.NoError(t, reminderHour.In(ns).Set(9))
	file, err = os.ReadFile(ns.Path())
	require.NoError(t, err)
	last := string(file[bytes.LastIndexByte(file[:len(file)-1], '\n')+1:])
	assert.NotContains(t, last, "synced", "after a Flush all before it is synced")
	require.NoError(t, ns.Close())
	assert.ErrorIs(t, ns.Flush(), pantry.ErrClosed)
	assert.Equal(t, 9, reminderHour.In(open(t, dir)).Get())
	require.NoError(t, other.Flush(), "without prompt writes there is nothing to do")
}

// A prompt writer and a strict one share a file. When a strict commit is acknowledged, the prompt commits
// before it are synced too.
func TestPromptAndStrictShareAFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	prompt := open(t, dir, pantry.SyncWithin(250*time.Millisecond))
	strict := open(t, dir)
	require.NoError(t, reminderHour.In(prompt).Set(7))
	require.NoError(t, reminderHour.In(strict).Set(7), "nothing changes, but it is made certain")
	require.NoError(t, reminderHour.In(prompt).Set(8))
	file, err := os.ReadFile(prompt.Path())
	require.NoError(t, err)
	assert.Contains(t, string(file), `"version":1,"at"`)
	assert.Equal(t, 0, strings.Count(string(file), `"synced"`), "version 1 was synced before version 2 was written")
}

// What a running app has in memory is not lost when its file is spoiled under it.
func TestFileSpoiledWhileOpen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir, quiet)
	require.NoError(t, reminderHour.In(ns).Set(7))
	require.NoError(t, plot.In(ns).Set("C4"))
	require.NoError(t, frost.In(ns).Set(true))
	file, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	lines := bytes.SplitAfter(file, []byte("\n"))
	lines[1][bytes.Index(lines[1], []byte(`"value":7`))+8]++
	require.NoError(t, os.WriteFile(ns.Path(), bytes.Join(lines[:3], nil), 0o600), "the hour is spoiled, the frost cut off")

	require.NoError(t, plot.In(ns).Set("B2"))
	assert.Equal(t, []any{7, "B2", true}, []any{reminderHour.In(ns).Get(), plot.In(ns).Get(), frost.In(ns).Get()})
	require.Len(t, ns.Problems(), 1)
	assert.ErrorIs(t, ns.Problems()[0].Err, pantry.ErrDamaged)
	require.NoError(t, ns.Close())
	ns = open(t, dir)
	assert.Equal(t, []any{7, "B2", true}, []any{reminderHour.In(ns).Get(), plot.In(ns).Get(), frost.In(ns).Get()})
}

// The files in testdata/journals, one of each format, are read for ever.
func TestJournalsOfBefore(t *testing.T) {
	t.Parallel()
	kept, err := os.ReadFile(filepath.Join("testdata", "journals", "small-pantry-1.jsonl"))
	require.NoError(t, err)
	dir := t.TempDir()
	path := filepath.Join(dir, "plotbook.jsonl")
	require.NoError(t, os.WriteFile(path, kept, 0o600))
	schema := pantry.Schema(func(*pantry.Batch) error { return nil }, func(*pantry.Batch) error { return nil })
	all := func(ns *pantry.Namespace) (entries []string) {
		for e := range ns.Entries("") {
			entries = append(entries, fmt.Sprintf("%d %s %s %s", e.Version, e.Name, e.Value.Kind(), e.Value.AppendJSON(nil)))
		}
		return entries
	}
	want := []string{
		`5 gate/code sealed "c2VhbGVk"`, `3 gate/open bool true`, `6 hose/queue list ["C4",1,2.0,null,{"a":[-9223372036854775808]}]`,
		`5 icon bytes "AP8="`, `6 notes map {"":1000.0,"bed":"C4"}`, `3 plot text "C4, \"by the wall\" – ä\u0007"`, `7 reminder-hour int 21`,
		`5 sown time "2026-05-03T07:12:44.000000001Z"`, `3 tank/ratio float 5.0`,
	}
	ns := open(t, dir, pantry.ReadOnly(), schema)
	assert.Equal(t, want, all(ns))
	assert.EqualValues(t, 7, ns.Version())
	hour, _ := ns.Entry("reminder-hour")
	assert.Equal(t, time.Date(2026, 5, 3, 9, 12, 49, 0, time.UTC), hour.Updated)
	keys := ns.Declared()
	require.Len(t, keys, 2)
	assert.Equal(t, []any{"hose/queue", 20}, []any{keys[0].Name, keys[0].Keep})
	assert.Equal(t, []any{"reminder-hour", "18", "0", "23", "when to remind"}, []any{keys[1].Name, keys[1].Default.String(), keys[1].Min.String(), keys[1].Max.String(), keys[1].About})
	past, err := ns.History(0)
	require.NoError(t, err)
	require.Len(t, past, 2, "the commits behind the base")
	assert.Equal(t, `[{hose/queue  ["C4",1,2.0,null,{"a":[-9223372036854775808]}]} {notes  {"":1000.0,"bed":"C4"}}]`, fmt.Sprint(past[1].Changes))
	then, err := ns.EntriesAt(5)
	require.NoError(t, err)
	assert.Len(t, then, 8, "with tank/most, and without what came later")
	assert.Equal(t, "plotbook", then[len(then)-4].By, then[len(then)-4].Name)
	require.NoError(t, ns.Close())
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(kept), string(after))

	ns = open(t, dir, schema)
	require.NoError(t, pantry.Text("plot", "").In(ns).Set("B2"))
	require.NoError(t, ns.Close())
	after, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(after, kept), "and written on")
	ns = open(t, dir, schema)
	assert.EqualValues(t, 8, ns.Version())
	assert.Equal(t, "B2", pantry.Text("plot", "").In(ns).Get())
}

// Somebody puts an older copy in the place of the file under a running app: its
// screen follows, though the versions go back.
func TestWatchFollowsAnOlderFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir, quiet, pantry.Follow(5*time.Millisecond))
	require.NoError(t, plot.In(ns).Set("C4"))
	require.NoError(t, plantings.In(ns).Put("1", planting{Crop: "peas"}))
	older, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	require.NoError(t, plot.In(ns).Set("B2"))
	require.NoError(t, reminderHour.In(ns).Set(7))
	require.NoError(t, plantings.In(ns).Put("2", planting{Crop: "garlic"}))

	ctx, cancel := context.WithTimeout(t.Context(), hang.Patience)
	defer cancel()
	var seen [][]string
	for names := range ns.WatchNames(ctx) {
		seen = append(seen, names)
		switch len(seen) {
		case 1:
			put := filepath.Join(dir, "older")
			require.NoError(t, os.WriteFile(put, older, 0o600))
			require.NoError(t, os.Rename(put, ns.Path()))
		case 2:
			assert.Equal(t, []any{"C4", 18, 1}, []any{plot.In(ns).Get(), reminderHour.In(ns).Get(), plantings.In(ns).Len()})
			require.NoError(t, frost.In(ns).Set(true), "with a version that was there before")
		}
		if len(seen) == 3 {
			break
		}
	}
	require.Len(t, seen, 3)
	assert.Subset(t, seen[1], []string{"plantings/2", "plot", "reminder-hour"})
	assert.NotContains(t, seen[1], "plantings/1", "which is as it was")
	assert.Equal(t, []string{"frost/warning"}, seen[2])
}

// What is forgotten is nowhere in the file, and the rest of the past is.
func TestForget(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	gate := pantry.Text("gate-code", "")
	ns := open(t, dir, quiet)
	for i := range 5 {
		require.NoError(t, reminderHour.In(ns).Set(i+1))
		require.NoError(t, gate.In(ns).Set(fmt.Sprint("rhubarb-", i)))
	}
	require.NoError(t, ns.Forget("gate-code"))
	file, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	assert.NotContains(t, string(file), "gate-code")
	assert.NotContains(t, string(file), "rhubarb")
	assert.Equal(t, []any{5, ""}, []any{reminderHour.In(ns).Get(), gate.In(ns).Get()})
	past, err := ns.History(0)
	require.NoError(t, err)
	assert.Len(t, past, 5)
	then, err := ns.EntriesAt(4)
	require.NoError(t, err)
	require.Len(t, then, 1)
	assert.Equal(t, value.Int(2), then[0].Value)
	require.NoError(t, ns.Forget("never-there"))
	assert.ErrorIs(t, ns.Forget(), pantry.ErrInvalid)
	require.NoError(t, gate.In(ns).Set("marrow-1"), "it can be written again")
	require.NoError(t, gate.In(ns).Set("marrow-2"))
	require.NoError(t, ns.Close())
	assert.ErrorIs(t, ns.Forget("gate-code"), pantry.ErrClosed)

	ns = open(t, dir, quiet, pantry.ReadOnly())
	assert.ErrorIs(t, ns.Forget("gate-code"), pantry.ErrReadOnly)
	require.NoError(t, ns.Close())
}

func TestEntriesAtTime(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testEntriesAtTime)
}

func testEntriesAtTime(t *testing.T) {
	ns := open(t, t.TempDir(), quiet)
	began := time.Now().Add(-time.Millisecond)
	require.NoError(t, reminderHour.In(ns).Set(5))
	time.Sleep(3 * time.Millisecond)
	between := time.Now()
	time.Sleep(3 * time.Millisecond)
	require.NoError(t, reminderHour.In(ns).Set(6))
	for at, want := range map[time.Time][]any{began: {int64(0), 0}, between: {int64(1), 5}, time.Now(): {int64(2), 6}} {
		entries, version, err := ns.EntriesAtTime(at)
		require.NoError(t, err)
		hour := 0
		for _, e := range entries {
			n, _ := e.Value.AsInt()
			hour = int(n)
		}
		assert.Equal(t, want, []any{version, hour})
	}
	require.NoError(t, ns.Reset())
	_, _, err := ns.EntriesAtTime(between)
	assert.ErrorIs(t, err, pantry.ErrTooOld)
}

// A key by whose name it is a secret, and that is not sealed, is a problem at Open.
func TestSecretKeysThatAreNotSealed(t *testing.T) {
	t.Parallel()
	type cloud struct {
		User     string
		APIToken string
	}
	var found []string
	sealer, err := seal.AESGCM(bytes.Repeat([]byte{7}, 32))
	require.NoError(t, err)
	ns := open(t, t.TempDir(), pantry.Seal(sealer), pantry.Declare(
		pantry.Text("gate-password", ""), pantry.Text("door-password", "").Sealed(), pantry.Text("password-hint", ""), pantry.Bytes("privateKey", nil),
		pantry.Int("token-number", 0), pantry.Bool("secret-garden", false), pantry.List[string]("tokens-used"), pantry.List[string]("bearer-tokens"), pantry.Fields(cloud{}),
	), pantry.OnProblem(func(p pantry.Problem) {
		found = append(found, p.Name)
		assert.ErrorContains(t, p.Err, "declare it Sealed")
	}))
	assert.Equal(t, []string{"gate-password", "privateKey", "bearer-tokens", "api-token"}, found)
	require.NoError(t, ns.Close())
}
