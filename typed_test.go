package pantry_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/test/cases"
	"github.com/small-pantry/pantry/value"
)

// Numbers are read as people type them, and what may mean two things is not.
func TestParseNumbersAsTyped(t *testing.T) {
	t.Parallel()
	whole, real := pantry.Int("n", 0), pantry.Float("f", 0)
	for typed, want := range map[string]int{"007": 7, "+5": 5, "-007": -7, " 12 ": 12, "0": 0, "000": 0, "+0": 0, "5.": 5, "1e3": 1000, "4.0": 4} {
		n, err := whole.Parse(typed)
		if assert.NoError(t, err, typed) {
			assert.Equal(t, want, n, typed)
		}
	}
	for typed, want := range map[string]float64{".5": .5, "-.5": -.5, "+.5": .5, "4,5": 4.5, "-4,5": -4.5, ",5": .5, "0,125": .125, "007.50": 7.5, "1,5e3": 1500, "12,25": 12.25} {
		f, err := real.Parse(typed)
		if assert.NoError(t, err, typed) {
			assert.InDelta(t, want, f, 1e-12, typed)
		}
	}
	for _, typed := range []string{"", "e5", ".", ",", "--5", "+-5", "-+5", "1,000", "12,345", "1,2,3", "1.000,5", "1,000.5", "5 6", "0x10", "five", "1e", "1_000", "٣"} {
		_, err := whole.Parse(typed)
		assert.ErrorIs(t, err, pantry.ErrInvalid, "int %q", typed)
		_, err = real.Parse(typed)
		assert.ErrorIs(t, err, pantry.ErrInvalid, "float %q", typed)
	}
	_, err := whole.Parse("4,5")
	assert.ErrorIs(t, err, pantry.ErrInvalid, "that is no whole number")
}

// A length of time is an int of nanoseconds, read as people type it.
func TestDuration(t *testing.T) {
	t.Parallel()
	pause := pantry.Duration("pause", 5*time.Minute).Between(time.Second, 48*time.Hour)
	for typed, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "5 min": 5 * time.Minute, "1h30m": 90 * time.Minute, "1h 30 min": 90 * time.Minute, "2 Hours": 2 * time.Hour, "1.5h": 90 * time.Minute,
		"1,5 h": 90 * time.Minute, "2 days": 48 * time.Hour, "1500ms": 1500 * time.Millisecond, " 1 sec ": time.Second, "1d 2h": 26 * time.Hour,
	} {
		d, err := pause.Parse(typed)
		if assert.NoError(t, err, typed) {
			assert.Equal(t, want, d, typed)
		}
	}
	for _, typed := range []string{"", "5", "min", "5 fortnights", "1h30", "-", "1 h -5 m", "999999999999 days", "0", "3 days", "1,000s1"} {
		_, err := pause.Parse(typed)
		assert.ErrorIs(t, err, pantry.ErrInvalid, typed)
		assert.Contains(t, err.Error(), "Enter a length of time such as 90s, 5 min or 1h 30m from 1s to 48h.", typed)
	}
	dir := t.TempDir()
	ns := open(t, dir, pantry.Declare(pause))
	assert.Equal(t, 5*time.Minute, pause.In(ns).Get())
	require.NoError(t, pause.In(ns).Set(90*time.Second))
	now, err := pantry.Add(pause.In(ns), time.Second)
	require.NoError(t, err)
	assert.Equal(t, 91*time.Second, now)
	err = pause.In(ns).Set(time.Millisecond)
	assert.ErrorContains(t, err, "1ms is not from 1s to 48h")
	e, _ := ns.Entry("pause")
	assert.Equal(t, "91000000000", e.Value.String())
	require.NoError(t, ns.Close())
	free := pantry.Duration("free", 0)
	rapid.Check(t, func(rt *rapid.T) {
		d := time.Duration(rapid.Int64().Draw(rt, "ns"))
		if rapid.Bool().Draw(rt, "round") {
			d = d.Truncate(time.Minute)
		}
		back, err := free.Parse(free.Format(d))
		if d > -1<<62 && d < 1<<62 {
			require.NoError(rt, err, free.Format(d))
			require.InDelta(rt, float64(d), float64(back), 1e-15*float64(max(d, -d))+2000, free.Format(d))
		}
	})
	for d, want := range map[time.Duration]string{90 * time.Minute: "1h30m", 2 * time.Hour: "2h", 61 * time.Second: "1m1s", 0: "0s", time.Hour + time.Second: "1h0m1s", 1500 * time.Millisecond: "1.5s"} {
		assert.Equal(t, want, free.Format(d))
		back, err := free.Parse(want)
		require.NoError(t, err)
		assert.Equal(t, d, back)
	}
}

type measure string

// A key of any kind parses what it formats.
func TestFormatIsTheInverseOfParse(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(rt *rapid.T) {
		again(rt, pantry.Bool("b", false), rapid.Bool().Draw(rt, "bool"))
		again(rt, pantry.Int("n", 0), rapid.Int().Draw(rt, "int"))
		again(rt, pantry.Float("f", 0), rapid.Float64Range(-1e300, 1e300).Draw(rt, "float"))
		again(rt, pantry.Text("t", ""), rapid.StringMatching(`[ -~äö]{0,12}`).Draw(rt, "text"))
		again(rt, pantry.Bytes("raw", nil), rapid.SliceOfN(rapid.Byte(), 0, 9).Draw(rt, "bytes"))
		again(rt, pantry.List[string]("l"), rapid.SliceOfN(rapid.StringMatching(`[a-z "]{0,4}`), 0, 4).Draw(rt, "list"))
		again(rt, pantry.OneOf("units", measure("metric"), "imperial"), rapid.SampledFrom([]measure{"metric", "imperial"}).Draw(rt, "choice"))
		at := time.Unix(rapid.Int64Range(0, 4e9).Draw(rt, "s"), rapid.Int64Range(0, 1e9-1).Draw(rt, "ns")).UTC()
		again(rt, pantry.Time("at", time.Time{}), at)
	})
}

func again[T any](rt *rapid.T, k pantry.Key[T], x T) {
	back, err := k.Parse(k.Format(x))
	require.NoError(rt, err, "%v", x)
	require.Equal(rt, fmt.Sprint(x), fmt.Sprint(back))
}

func TestWhatAScreenNeeds(t *testing.T) {
	t.Parallel()
	units := pantry.OneOf("units", measure("metric"), "imperial", "by eye").About("how to measure")
	assert.Equal(t, []measure{"metric", "imperial", "by eye"}, units.Choices())
	units.Choices()[0] = "x"
	assert.Equal(t, measure("metric"), units.Choices()[0], "a copy")
	assert.Equal(t, "how to measure", units.Describe())
	assert.Empty(t, pantry.Text("plot", "").Choices())
	assert.Equal(t, []string{"metric", "imperial", "by eye"}, units.Declared()[0].Choices)
	ns := open(t, t.TempDir(), pantry.Declare(units))
	assert.Equal(t, []string{"metric", "imperial", "by eye"}, ns.Declared()[0].Choices, "in the file")
	require.NoError(t, ns.Close())
}

// A rule checks what is set and stored, so that a value without a default can be required. The sentence for
// the user is found in every error.
func TestRequired(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	gardener := pantry.Text("gardener", "").Check(func(name string) error {
		if name == "" {
			return errors.New("Say who tends the garden.")
		}
		return nil
	})
	ns := open(t, dir, quiet)
	assert.Equal(t, "", gardener.In(ns).Get())
	err := gardener.In(ns).Set("")
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	sentence, ok := pantry.Sentence(fmt.Errorf("save: %w", err))
	assert.Equal(t, []any{"Say who tends the garden.", true}, []any{sentence, ok})
	_, err = gardener.Parse("")
	sentence, ok = pantry.Sentence(err)
	assert.Equal(t, []any{"Say who tends the garden.", true}, []any{sentence, ok})
	_, err = pantry.Int("n", 0).Parse("x")
	sentence, _ = pantry.Sentence(err)
	assert.Equal(t, `"x" won't do. Enter a whole number.`, sentence)
	_, ok = pantry.Sentence(pantry.ErrBusy)
	assert.False(t, ok)
	require.NoError(t, gardener.In(ns).Set("Ada"))
	require.NoError(t, ns.Put("gardener", value.Text("")))
	_, found, err := gardener.In(ns).Lookup()
	assert.True(t, found)
	assert.ErrorIs(t, err, pantry.ErrInvalid, "stored against the rule")
	require.NoError(t, ns.Close())
	assert.Panics(t, func() { pantry.Int("n", 9).Between(0, 5) }, "the default keeps its bounds")
}

type screen struct {
	ReminderHour int
	Units        string
	Beds         []string
	Pause        time.Duration
	Note         string
}

// The rules of a key apply to a field of settings. A stored value that breaks them shows as its default and
// blocks nothing else.
func TestFieldsWithKeys(t *testing.T) {
	t.Parallel()
	hour := pantry.Int("reminder-hour", 0).Between(0, 23).About("when to remind")
	units := pantry.OneOf("units", "metric", "imperial")
	beds := pantry.List[string]("beds").Keep(2)
	note := pantry.Text("note", "").Check(func(s string) error {
		if s == "" {
			return errors.New("Write something.")
		}
		return nil
	})
	settings := pantry.Fields(screen{ReminderHour: 18, Units: "metric"}).With(hour, units, beds, note)
	declared := settings.Declared()
	assert.Equal(t, []string{"0 to 23", "metric, imperial", "the newest 2", "", ""}, []string{declared[0].Allowed(), declared[1].Allowed(), declared[2].Allowed(), declared[3].Allowed(), declared[4].Allowed()})
	assert.Equal(t, []string{"when to remind", "18"}, []string{declared[0].About, declared[0].Default.String()}, "the default is the struct's")

	var problems []string
	ns := open(t, t.TempDir(), pantry.Declare(settings), pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Name) }))
	v := settings.In(ns)
	set := func(f func(*screen)) error {
		_, err := v.Update(func(s screen) (screen, error) { f(&s); return s, nil })
		return err
	}
	for want, f := range map[string]func(*screen){
		"24 is not from 0 to 23":                    func(s *screen) { s.ReminderHour = 24 },
		`"furlongs" is not one of metric, imperial`: func(s *screen) { s.Units = "furlongs" },
	} {
		err := set(f)
		assert.ErrorIs(t, err, pantry.ErrInvalid)
		sentence, _ := pantry.Sentence(err)
		assert.Equal(t, want, sentence)
	}
	require.NoError(t, set(func(s *screen) { s.Note = "hello" }))
	assert.ErrorContains(t, set(func(s *screen) { s.Note = "" }), "Write something.")
	require.NoError(t, set(func(s *screen) { s.Beds = []string{"A1", "B2", "C4"} }))
	assert.Equal(t, []string{"B2", "C4"}, v.Get().Beds)
	require.NoError(t, ns.Put("reminder-hour", value.Int(99)))
	require.NoError(t, ns.Put("units", value.Text("furlongs")))
	got := v.Get()
	assert.Equal(t, []any{18, "metric", "hello"}, []any{got.ReminderHour, got.Units, got.Note})
	assert.ElementsMatch(t, []string{"reminder-hour", "units"}, problems)
	require.NoError(t, set(func(s *screen) { s.Note = "still here" }), "nothing else is blocked")
	assert.ErrorIs(t, set(func(s *screen) { s.ReminderHour = 7 }), pantry.ErrInvalid, "nor is a default written back")
	require.NoError(t, v.Set(screen{ReminderHour: 7, Units: "imperial", Note: "x"}))
	assert.Equal(t, 7, v.Get().ReminderHour)
	require.NoError(t, ns.Close())

	for name, misused := range map[string]func(){
		"another name":      func() { pantry.Fields(screen{}).With(pantry.Int("minute", 0)) },
		"another kind":      func() { pantry.Fields(screen{}).With(pantry.Text("reminder-hour", "")) },
		"a default against": func() { pantry.Fields(screen{ReminderHour: 30}).With(hour) },
		"no choice":         func() { pantry.Fields(screen{Units: "x"}).With(units) },
		"records":           func() { pantry.Fields(screen{}).With(pantry.RecordsOf[screen]("units")) },
		"sealed":            func() { pantry.Fields(screen{}).With(pantry.Text("note", "").Sealed()) },
		"nil":               func() { pantry.Fields(screen{}).With(nil) },
	} {
		assert.Panics(t, misused, name)
	}
}

// What users type, by the file that the client in JavaScript reads too.
func TestTypedCases(t *testing.T) {
	t.Parallel()
	var all []cases.TypedCase
	require.NoError(t, json.Unmarshal(cases.Typed, &all))
	require.Greater(t, len(all), 50)
	for _, c := range all {
		switch c.Kind {
		case "int":
			k := pantry.Int[int64]("n", 0)
			if c.Min != nil {
				k = k.Between(int64(*c.Min), int64(*c.Max))
			}
			typedCase(t, c, k)
		case "float":
			k := pantry.Float("n", 1)
			if c.Min != nil {
				k = k.Between(*c.Min, *c.Max)
			}
			typedCase(t, c, k)
		case "text":
			k := pantry.Text("t", "")
			if c.Choices != nil {
				k = pantry.OneOf("t", c.Choices[0], c.Choices[1:]...)
			}
			typedCase(t, c, k)
		case "bool":
			typedCase(t, c, pantry.Bool("b", false))
		case "time":
			typedCase(t, c, pantry.Time("t", time.Unix(0, 0)))
		case "bytes":
			typedCase(t, c, pantry.Bytes("b", nil))
		case "list":
			typedCase(t, c, pantry.List[any]("l"))
		case "map":
			typedCase(t, c, pantry.Map[any]("m", nil))
		default:
			t.Errorf("a case of kind %q", c.Kind)
		}
	}
}

func typedCase[T any](t *testing.T, c cases.TypedCase, k pantry.Key[T]) {
	t.Helper()
	x, err := k.Parse(c.Typed)
	if c.Sentence == "" {
		require.NoError(t, err, "%s %q", c.Kind, c.Typed)
		assert.Equal(t, c.Shown, k.Format(x), "%s %q", c.Kind, c.Typed)
		return
	}
	sentence, _ := pantry.Sentence(err)
	assert.Equal(t, c.Sentence, sentence, "%s %q", c.Kind, c.Typed)
}
