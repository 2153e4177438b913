package pantry_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/keyuse"
	"github.com/small-pantry/pantry/value"
)

type unit string

// settings has a field of every sort that can be an entry.
type settings struct {
	ReminderHour int8
	Units        unit
	Quiet        bool
	Ratio        float32
	Since        time.Time
	Icon         []byte
	Beds         []string
	Notes        map[string][]int
	Tank         struct{ Litres, Most int } `pantry:"tank/shape"`
}

var (
	someSettings = settings{ReminderHour: 18, Units: "metric", Beds: []string{"C4"}}
	prefs        = pantry.Fields(someSettings)
)

type planting struct {
	Crop      string
	Bed       string
	Sown      time.Time
	SpacingCm float64
}

var plantings = pantry.RecordsOf[planting]("plantings")

func TestFields(t *testing.T) {
	dir := t.TempDir()
	ns := open(t, dir, pantry.Declare(prefs))
	p := prefs.In(ns)
	x, found, err := p.Lookup()
	assert.Equal(t, []any{someSettings, false, nil}, []any{x, found, err})
	p.Get().Beds[0] = "spoilt"
	assert.Equal(t, []string{"C4"}, p.Get().Beds)

	now := p.Get()
	now.ReminderHour, now.Ratio, now.Since = 7, 0.5, time.Date(2026, 5, 3, 9, 12, 44, 7, time.UTC)
	now.Icon, now.Notes, now.Tank.Litres = []byte{0, 255}, map[string][]int{"C4": {1, 2}}, 420
	version := ns.Version()
	require.NoError(t, p.Set(now))
	assert.Equal(t, version+1, ns.Version(), "all fields in one commit")
	assert.Equal(t, now, p.Get())
	var names []string
	for e := range ns.Entries("") {
		names = append(names, e.Name+" "+e.Value.Kind().String())
	}
	assert.Equal(t, []string{"icon bytes", "notes map", "ratio float", "reminder-hour int", "since time", "tank/shape map"}, names,
		"fields that are at their default are not written")
	require.NoError(t, ns.Close())
	ns = open(t, dir)
	assert.Equal(t, now, prefs.In(ns).Get())

	version = ns.Version()
	later, err := prefs.In(ns).Update(func(s settings) (settings, error) { s.Quiet = true; return s, nil })
	require.NoError(t, err)
	assert.True(t, later.Quiet)
	past, err := ns.History(1)
	require.NoError(t, err)
	assert.Equal(t, version+1, past[0].Version)
	assert.Equal(t, []pantry.Change{{Name: "quiet", New: value.Bool(true)}}, past[0].Changes, "Update commits the changed fields only")
	require.NoError(t, prefs.In(ns).Clear())
	assert.Equal(t, someSettings, prefs.In(ns).Get())
}

func TestFieldsThatCantBeUsed(t *testing.T) {
	ns := open(t, t.TempDir(), quiet)
	require.NoError(t, ns.Put("reminder-hour", value.Text("seven")))
	p := prefs.In(ns)
	assert.EqualValues(t, 18, p.Get().ReminderHour)
	_, found, err := p.Lookup()
	assert.True(t, found)
	assert.ErrorIs(t, err, pantry.ErrWrongKind)
	_, err = p.Update(func(s settings) (settings, error) { s.Quiet = true; return s, nil })
	require.NoError(t, err, "another field can be changed")
	_, err = p.Update(func(s settings) (settings, error) { s.ReminderHour++; return s, nil })
	assert.ErrorIs(t, err, pantry.ErrWrongKind, "what stands in for a bad value is not counted on")
	e, _ := ns.Entry("reminder-hour")
	assert.Equal(t, "seven", e.Value.String())
	require.Len(t, ns.Problems(), 1)

	odd := prefs.Check(func(s settings) error {
		if s.Quiet && s.ReminderHour > 20 {
			return errors.New("no")
		}
		return nil
	})
	assert.ErrorIs(t, odd.In(ns).Set(settings{Quiet: true, ReminderHour: 21}), pantry.ErrInvalid)
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		s := prefs.In(b).Get()
		s.ReminderHour = 5
		require.NoError(t, prefs.In(b).Set(s))
		assert.EqualValues(t, 5, prefs.In(b).Get().ReminderHour)
		return nil
	}))
	assert.EqualValues(t, 5, p.Get().ReminderHour)
}

func TestRecords(t *testing.T) {
	dir := t.TempDir()
	ns := open(t, dir)
	r := plantings.In(ns)
	beans := planting{Crop: "beans", Bed: "C4", Sown: time.Date(2026, 5, 3, 0, 0, 0, 0, time.UTC), SpacingCm: 30}
	for range 11 {
		must(r.Add(beans))(t)
	}
	require.NoError(t, r.Put("wall", beans))
	require.NoError(t, r.Put("20", beans))
	assert.Equal(t, "21", must(r.Add(beans))(t), "the next number is above those that were put")
	require.NoError(t, r.Delete("21", "3", "none"))
	assert.Equal(t, "22", must(r.Add(beans))(t), "a number is never used again")
	var ids []string
	for id, x := range r.All() {
		assert.Equal(t, beans, x)
		ids = append(ids, id)
	}
	assert.Equal(t, "1 2 4 5 6 7 8 9 10 11 20 22 wall", strings.Join(ids, " "))
	assert.Equal(t, 13, r.Len())
	require.NoError(t, ns.Close())

	ns = open(t, dir)
	r = plantings.In(ns)
	got, found, err := r.Lookup("20")
	assert.Equal(t, []any{beans, true, nil}, []any{got, found, err}, "a record survives whole")
	_, found, err = r.Lookup("3")
	assert.Equal(t, []any{false, nil}, []any{found, err})
	marrow, err := r.Update("20", func(p planting) (planting, error) { p.Crop = "marrow"; return p, nil })
	require.NoError(t, err)
	assert.Equal(t, "marrow", marrow.Crop)
	_, err = r.Update("3", func(p planting) (planting, error) { return p, nil })
	assert.ErrorIs(t, err, pantry.ErrAbsent, "a deleted record does not come back by an update")
	for _, id := range []string{"", "a/b", "..", "a\n"} {
		assert.ErrorIs(t, r.Put(id, beans), pantry.ErrInvalid, "%q", id)
	}
	require.NoError(t, ns.Reset())
	assert.Zero(t, r.Len())
	assert.Equal(t, "1", must(r.Add(beans))(t))
}

func TestRecordsInABatchAndAtOnce(t *testing.T) {
	ns := open(t, t.TempDir())
	r := plantings.In(ns)
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		in := plantings.In(b)
		for i := range 3 {
			id, err := in.Add(planting{Bed: fmt.Sprint("C", i)})
			require.NoError(t, err)
			assert.Equal(t, fmt.Sprint(i+1), id)
		}
		require.NoError(t, in.Delete("2"))
		assert.Equal(t, 2, in.Len())
		return nil
	}))
	assert.EqualValues(t, 1, ns.Version())
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 10 {
				_, err := r.Add(planting{})
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	assert.Equal(t, 42, r.Len())

	var seen []string
	for ids := range r.Watch(t.Context()) {
		if len(seen) == 0 {
			assert.Len(t, ids, 42)
		}
		seen = append(seen, fmt.Sprint(len(ids), ",", ids[0]))
		switch len(seen) {
		case 1:
			require.NoError(t, r.Delete("7"))
		case 2:
			require.NoError(t, r.Put("7", planting{}))
		case 3:
			require.NoError(t, ns.Close())
		}
	}
	assert.Equal(t, []string{"42,1", "1,7", "1,7"}, seen)
}

// A program that knows fewer fields loses nothing for one that knows more.
func TestUnknownMembersAreKept(t *testing.T) {
	ns := open(t, t.TempDir(), quiet)
	newer, err := value.ParseAny([]byte(`{"crop":"beans","bed":"C4","sown":"2026-05-03T00:00:00Z","spacing-cm":30,"support":{"kind":"poles","n":4}}`))
	require.NoError(t, err)
	require.NoError(t, ns.Put("plantings/1", newer))
	r := plantings.In(ns)
	_, err = r.Update("1", func(p planting) (planting, error) { p.Bed = "B2"; return p, nil })
	require.NoError(t, err)
	require.NoError(t, r.Put("1", planting{Crop: "peas"}))
	e, _ := ns.Entry("plantings/1")
	support, found := e.Value.Member("support")
	require.True(t, found)
	assert.Equal(t, `{"kind":"poles","n":4}`, support.String())

	require.NoError(t, ns.Put("plantings/2", value.Text("garbage")))
	n := 0
	for range r.All() {
		n++
	}
	assert.Equal(t, []int{1, 2, 1}, []int{n, r.Len(), len(ns.Problems())}, "what can't be used is left out, kept and reported")
	_, err = r.Update("2", func(p planting) (planting, error) { return p, nil })
	assert.ErrorIs(t, err, pantry.ErrWrongKind)
}

// Every kind of a list's or struct's parts comes back as it was.
func TestObjectsSurvive(t *testing.T) {
	type part struct {
		N     int
		F     float64
		Deep  []map[string]*float64
		Any   []any
		At    time.Time
		Raw   []byte
		Pair  [2]bool
		Empty []string
		Left  int `json:"left"`
	}
	half := 0.5
	for _, x := range []part{
		{},
		{N: 5, F: 5, Deep: []map[string]*float64{{"a": &half, "b": nil}}, Any: []any{nil, true, int64(5), 5.0, "5", []any{}, map[string]any{"x": int64(1)}},
			At: time.Unix(5, 7).UTC(), Raw: []byte("\x00\xff"), Pair: [2]bool{true, false}, Empty: []string{""}, Left: 1},
	} {
		dir := t.TempDir()
		ns := open(t, dir)
		k := pantry.Object("part", part{})
		require.NoError(t, k.In(ns).Set(x))
		got := k.In(ns).Get()
		if x.N > 0 {
			got.Any[0] = "spoilt"
			*got.Deep[0]["a"] = 7
			require.NoError(t, ns.Close())
			ns = open(t, dir)
			assert.Equal(t, x, k.In(ns).Get())
		}
	}
	ns := open(t, t.TempDir(), quiet)
	require.NoError(t, ns.Put("part", value.List()))
	_, _, err := pantry.Object("part", part{N: 3}).In(ns).Lookup()
	assert.ErrorIs(t, err, pantry.ErrWrongKind)
	require.NoError(t, ns.Put("part", must(value.ParseAny([]byte(`{"f":2.0}`)))(t)))
	assert.Equal(t, 3, pantry.Object("part", part{N: 3}).In(ns).Get().N, "a field that is not told is as in the default")
}

func TestReset(t *testing.T) {
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

func TestAs(t *testing.T) {
	dir := t.TempDir()
	ns := open(t, dir, pantry.As("plotbook"))
	other := open(t, dir, pantry.As("tankwatch"))
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
		_, err := pantry.Open(dir, "plotbook", pantry.As(name))
		assert.ErrorIs(t, err, pantry.ErrInvalid)
	}
}

func TestSealed(t *testing.T) {
	dir := t.TempDir()
	sealer := must(pantry.AESGCM([]byte("0123456789abcdef")))(t)
	other := must(pantry.AESGCM([]byte("fedcba9876543210")))(t)
	clear := pantry.Text("gate/code", "")
	code := clear.Sealed()
	ns := open(t, dir, quiet, pantry.Seal(sealer))
	require.NoError(t, clear.In(ns).Set("plain-4711"))
	assert.Equal(t, "plain-4711", code.In(ns).Get(), "what was stored before is still read")
	require.Len(t, ns.Problems(), 1)
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
	_, err = pantry.AESGCM([]byte("short"))
	assert.ErrorIs(t, err, pantry.ErrInvalid)
}

func TestDeclareFinds(t *testing.T) {
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
	require.Len(t, found, 1)
	assert.Contains(t, found[0], "was declared as int, and is declared as float")
}

func TestUsage(t *testing.T) {
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

// What runs note of their use adds up, and is told of the keys that the last declared.
func TestNoteUsage(t *testing.T) {
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
	assert.Contains(t, found[0], "does not hold notes on usage: remove it")
}

func TestSchema(t *testing.T) {
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
	assert.ErrorContains(t, err, "step 3 of the schema: no")
	ns = open(t, dir)
	assert.Equal(t, 7, reminderHour.In(ns).Get(), "a step that fails changes nothing")
	ran = nil
	fresh := open(t, t.TempDir(), pantry.Schema(steps...))
	assert.Empty(t, ran, "a new file begins behind the last step")
	require.NoError(t, fresh.Reset())
	require.NoError(t, fresh.Close())
}

func TestLimits(t *testing.T) {
	var problems []string
	ns := open(t, t.TempDir(), pantry.Limits(100, 300), pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err.Error()) }))
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

func TestAppDir(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(home, "config"))
	dir, err := pantry.AppDir("plotbook")
	require.NoError(t, err)
	assert.DirExists(t, dir)
	assert.Contains(t, dir, home)
	given := filepath.Join(home, "files")
	dir, err = pantry.AppDir(given)
	require.NoError(t, err)
	assert.Equal(t, given, dir)
	_, err = pantry.AppDir("../plotbook")
	assert.ErrorIs(t, err, pantry.ErrInvalid)
}
