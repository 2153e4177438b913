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
	"github.com/small-pantry/pantry/internal/keyuse"
	"github.com/small-pantry/pantry/value"
)

func TestDeclareFinds(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	litres := pantry.Int("tank/litres", 0)
	_, err := pantry.Open(dir, "plotbook", pantry.Declare(litres, plot, pantry.Text("tank/litres", "")))
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.ErrorContains(t, err, "was a line copied?")
	ns := open(t, dir, pantry.Declare(litres, plot))
	require.NoError(t, ns.Put("frost-warning", value.Bool(true)))
	require.NoError(t, ns.Put("reminder-hour", value.Text("x")))
	require.NoError(t, ns.Close())

	type lossy struct {
		Kept   int
		hidden int
	}
	_ = lossy{}.hidden
	var found []string
	second := open(t, dir, pantry.OnProblem(func(p pantry.Problem) { found = append(found, p.Err.Error()) }),
		pantry.Declare(pantry.Int("tank/litre", 0), pantry.Text("Plot", ""), pantry.Bool("frost_warning", false), reminderHour,
			pantry.Object("lossy", lossy{}), pantry.List[string]("watered")))
	for i, want := range []string{"nearly matches \"tank/litres\"", "capital letters only", "separators only", "can't be used", "hidden of pantry_test.lossy does not survive"} {
		assert.Contains(t, found[i], want)
	}
	assert.Len(t, found, 5)
	found = nil
	pantry.List[string]("watered").At("C4").In(second)
	assert.Empty(t, found, "a declared key covers its family")
	harvest.In(second)
	harvest.In(second)
	require.Len(t, found, 1)
	assert.Contains(t, found[0], "add it to Declare")
	require.NoError(t, second.Close())

	found = nil
	open(t, dir, pantry.OnProblem(func(p pantry.Problem) { found = append(found, p.Err.Error()) }), pantry.Declare(pantry.Float("tank/litres", 0)))
	require.Len(t, found, 2)
	assert.Contains(t, found[0], `"frost-warning" is stored, and no app has declared it`)
	assert.Contains(t, found[1], "was declared as int, and is now declared as float")
}

func TestUsage(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir, pantry.Declare(plot, prefs, queue, harvest))
	require.NoError(t, plot.In(ns).Set("C4"))
	prefs.In(ns).Get()
	require.NoError(t, ns.Put("left", value.Int(1)))
	usage := map[string]string{}
	for _, u := range ns.Usage() {
		usage[u.Name] = fmt.Sprint(u.Declared, u.Stored, u.Read, u.Written)
	}
	assert.Equal(t, "true true false true", usage["plot"])
	assert.Equal(t, "true false true false", usage["reminder-hour"])
	assert.Equal(t, "false true false false", usage["left"])
	assert.Equal(t, "true false false false", usage["harvest/total-kg"])
}

// The notes of several runs add up, and cover the keys that the last run declared.
func TestNoteUsage(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := func(use func(ns *pantry.Namespace), opts ...pantry.Option) keyuse.Notes {
		ns := open(t, dir, append(opts, pantry.NoteUsage(), pantry.OnProblem(func(p pantry.Problem) { t.Error(p) }))...)
		use(ns)
		require.NoError(t, ns.Flush())
		require.NoError(t, ns.Close())
		n, err := keyuse.Load(dir, "plotbook")
		require.NoError(t, err)
		return n
	}
	assert.Zero(t, run(func(ns *pantry.Namespace) { plot.In(ns).Get() }).Runs, "without Declare there is nothing to note")
	watered := pantry.Int("watered", 0)
	declared := pantry.Declare(plot, reminderHour, watered, plantings)
	n := run(func(ns *pantry.Namespace) {
		plot.In(ns).Get()
		require.NoError(t, reminderHour.In(ns).Set(7))
	}, declared)
	assert.Equal(t, map[string]keyuse.Use{"plot": {Read: true}, "reminder-hour": {Written: true}, "watered": {}, "plantings": {}}, n.Keys)
	assert.Equal(t, 1, n.Runs, "Flush and Close are one run")
	n = run(func(ns *pantry.Namespace) {
		watered.At("C4").In(ns).Get()
		_, err := plantings.In(ns).Add(planting{Crop: "beans"})
		require.NoError(t, err)
	}, declared)
	assert.Equal(t, map[string]keyuse.Use{"plot": {Read: true}, "reminder-hour": {Written: true}, "watered": {Read: true}, "plantings": {Written: true}}, n.Keys)
	assert.Equal(t, 2, n.Runs)
	n = run(func(ns *pantry.Namespace) {
		for range plantings.In(ns).All() {
		}
	}, declared)
	assert.True(t, n.Keys["plantings"].Read)
	n = run(func(*pantry.Namespace) {}, pantry.Declare(plot))
	assert.Equal(t, map[string]keyuse.Use{"plot": {Read: true}}, n.Keys, "what is not declared any more is forgotten")
	left, err := filepath.Glob(filepath.Join(dir, ".plotbook.usage*"))
	require.NoError(t, err)
	assert.Len(t, left, 1)

	require.NoError(t, os.WriteFile(left[0], []byte("{}"), 0o600))
	var found []string
	ns := open(t, dir, declared, pantry.NoteUsage(), pantry.OnProblem(func(p pantry.Problem) { found = append(found, p.Err.Error()) }))
	require.NoError(t, ns.Close(), "nothing is lost by it")
	require.Len(t, found, 1)
	assert.Contains(t, found[0], "does not hold notes on usage; remove it")
}

func TestSchema(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir)
	require.NoError(t, ns.Put("hour", value.Text("7")))
	require.NoError(t, ns.Close())
	var ran []string
	steps := []func(*pantry.Batch) error{
		func(b *pantry.Batch) error { ran = append(ran, "rename"); return b.Rename("hour", "reminder-hour") },
		func(b *pantry.Batch) error {
			ran = append(ran, "kind")
			e, found := b.Entry("reminder-hour")
			if !found {
				return nil
			}
			v, err := value.FromTyped(value.KindInt, e.Value.String())
			if err != nil {
				return err
			}
			return b.Put("reminder-hour", v)
		},
	}
	ns = open(t, dir, pantry.Schema(steps...))
	assert.Equal(t, 7, reminderHour.In(ns).Get())
	assert.EqualValues(t, 2, ns.Version(), "all steps in one commit")
	require.NoError(t, ns.Close())
	require.NoError(t, open(t, dir, pantry.Schema(steps...)).Close())
	assert.Equal(t, []string{"rename", "kind"}, ran, "each step once")
	_, err := pantry.Open(dir, "plotbook", pantry.Schema(steps[:1]...))
	assert.ErrorIs(t, err, pantry.ErrNewer)
	_, err = pantry.Open(dir, "plotbook", pantry.Schema(append(steps, func(b *pantry.Batch) error {
		require.NoError(t, b.Drop("reminder-hour"))
		return errors.New("no")
	})...))
	assert.ErrorContains(t, err, "schema step 3: no")
	ns = open(t, dir, pantry.AnySchema())
	assert.Equal(t, 7, reminderHour.In(ns).Get(), "a step that fails changes nothing")
	ran = nil
	fresh := open(t, t.TempDir(), pantry.Schema(steps...))
	assert.Empty(t, ran, "a new file begins behind the last step")
	require.NoError(t, fresh.Reset())
	require.NoError(t, fresh.Close())
}

func TestSchemaRenamesADeclaredKey(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	hour := pantry.Int("hour", 18).Between(0, 23).About("when to remind")
	ns := open(t, dir, pantry.Declare(hour, plot))
	require.NoError(t, hour.In(ns).Set(7))
	require.NoError(t, plot.In(ns).Set("C4"))
	require.NoError(t, ns.Close())

	schema := pantry.Schema(func(b *pantry.Batch) error { return b.Rename("hour", "reminder-hour") })
	ns = open(t, dir, schema)
	declared := func(ns *pantry.Namespace) (all []string) {
		for _, k := range ns.Declared() {
			all = append(all, k.Name+" "+k.Default.String()+" "+k.About)
		}
		return all
	}
	want := []string{"plot none ", "reminder-hour 18 when to remind"}
	assert.Equal(t, want, declared(ns), "the declaration goes along")
	assert.Equal(t, 7, reminderHour.In(ns).Get())
	require.NoError(t, ns.Close())

	// The file has it too, also after it was damaged and salvaged.
	ns = open(t, dir, schema)
	assert.Equal(t, want, declared(ns))
	require.NoError(t, ns.Close())
	file, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	file[strings.Index(string(file), `"value":"C4"`)+9]++
	require.NoError(t, os.WriteFile(ns.Path(), file, 0o600))
	ns = open(t, dir, schema, quiet)
	require.Len(t, ns.Problems(), 1)
	assert.Equal(t, want, declared(ns))
	assert.Equal(t, []any{7, "none"}, []any{reminderHour.In(ns).Get(), plot.In(ns).Get()})
}
