package pantry_test

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
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
	t.Parallel()
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
	t.Parallel()
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
	assert.ErrorIs(t, err, pantry.ErrWrongKind, "Update does not build on a default that replaces a bad value")
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
	t.Parallel()
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
	require.NoError(t, r.Drop("21", "3", "none"))
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
	t.Parallel()
	ns := open(t, t.TempDir())
	r := plantings.In(ns)
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		in := plantings.In(b)
		for i := range 3 {
			id, err := in.Add(planting{Bed: fmt.Sprint("C", i)})
			require.NoError(t, err)
			assert.Equal(t, fmt.Sprint(i+1), id)
		}
		require.NoError(t, in.Drop("2"))
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
			require.NoError(t, r.Drop("7"))
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
	t.Parallel()
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
	t.Parallel()
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
func TestFieldsWatch(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	p := prefs.In(ns)
	var seen []settings
	for x := range p.Watch(t.Context()) {
		seen = append(seen, x)
		switch len(seen) {
		case 1:
			require.NoError(t, plot.In(ns).Set("C4"), "which is no field")
			_, err := p.Update(func(x settings) (settings, error) { x.ReminderHour, x.Quiet = 7, true; return x, nil })
			require.NoError(t, err)
		case 2:
			require.NoError(t, ns.Drop("reminder-hour"))
		}
		if len(seen) == 3 {
			break
		}
	}
	early, quiet := someSettings, someSettings
	early.ReminderHour, early.Quiet = 7, true
	quiet.Quiet = true
	assert.Equal(t, []settings{someSettings, early, quiet}, seen, "two fields of one commit come together")
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		assert.PanicsWithValue(t, "pantry: Watch of settings in a batch: watch the variable of the namespace", func() { prefs.In(b).Watch(t.Context()) })
		return nil
	}))
}

func TestRecordsKey(t *testing.T) {
	t.Parallel()
	beds := plantings.About("what grows where").Check(func(p planting) error {
		if p.Bed == "" {
			return errors.New("a planting has a bed")
		}
		return nil
	})
	var problems []string
	ns := open(t, t.TempDir(), pantry.Declare(beds), pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Name) }))
	require.Len(t, ns.Declared(), 1)
	k := ns.Declared()[0]
	assert.Equal(t, []any{"plantings", value.KindMap, true, "what grows where"}, []any{k.Name, k.Kind, k.Family, k.About})
	assert.Equal(t, []any{"plantings", value.KindMap}, []any{beds.Name(), beds.Kind()})

	r := beds.In(ns)
	_, err := r.Add(planting{Crop: "peas"})
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.ErrorContains(t, err, "a planting has a bed")
	assert.Zero(t, r.Len())
	id := must(r.Add(planting{Crop: "peas", Bed: "C4"}))(t)
	one := beds.At(id).In(ns)
	_, err = one.Update(func(p planting) (planting, error) { p.Bed = ""; return p, nil })
	assert.ErrorIs(t, err, pantry.ErrInvalid, "the variable of one record has the rules of all")
	require.NoError(t, one.Set(planting{Crop: "peas", Bed: "B2"}))
	x, found, err := r.Lookup(id)
	assert.Equal(t, []any{planting{Crop: "peas", Bed: "B2"}, true, nil}, []any{x, found, err})

	for _, id := range []string{"b", "10", "9", "a"} {
		require.NoError(t, r.Put(id, x))
	}
	var ids []string
	for id := range r.All() {
		ids = append(ids, id)
	}
	assert.Equal(t, []string{"1", "9", "10", "b", "a"}, ids, "numbers by their size, then the rest as they were added")
	assert.ErrorIs(t, r.Drop("a", "b/c"), pantry.ErrInvalid)
	assert.Equal(t, 5, r.Len(), "one that can't be an id, and none is deleted")

	other := pantry.RecordsOf[planting]("seedlings").In(ns)
	require.NoError(t, other.Put("40", x))
	require.NoError(t, other.Drop("40"))
	assert.Equal(t, "41", must(other.Add(x))(t), "nor is a number that was put by hand used again")
	watered := pantry.Int("watered", 0)
	require.NoError(t, watered.At("C4").In(ns).Set(1))
	require.NoError(t, watered.At("B2").At("east").In(ns).Set(1))
	assert.Equal(t, []string{"seedlings", "watered"}, problems, "undeclared, each told once and by the name to declare")
}
