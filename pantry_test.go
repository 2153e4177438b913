package pantry_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"github.com/small-pantry/pantry"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// open opens a namespace that the test closes; problems fail the test unless
// it takes them.
func open(t testing.TB, dir string, opts ...pantry.Option) *pantry.Namespace {
	t.Helper()
	ns, err := pantry.Open(dir, "plotbook", append([]pantry.Option{
		pantry.OnProblem(func(p pantry.Problem) { t.Errorf("problem: %v", p) }),
	}, opts...)...)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, ns.Close()) })
	return ns
}

// quiet takes problems without a word.
var quiet = pantry.OnProblem(func(pantry.Problem) {})

func must[T any](x T, err error) func(t testing.TB) T {
	return func(t testing.TB) T {
		t.Helper()
		require.NoError(t, err)
		return x
	}
}

var (
	reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23)
	harvest      = pantry.Float("harvest/total-kg", 0)
	plot         = pantry.Text("plot", "none")
	frost        = pantry.Bool("frost/warning", false)
	queue        = pantry.List[string]("hose/queue", "A1")
)

func TestFourAnswers(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir(), quiet)
	hour := reminderHour.In(ns)
	x, found, err := hour.Lookup()
	assert.Equal(t, []any{18, false, nil}, []any{x, found, err}, "absent")

	require.NoError(t, plot.In(ns).Set(""))
	bed, found, err := plot.In(ns).Lookup()
	assert.Equal(t, []any{"", true, nil}, []any{bed, found, err}, "empty is stored")

	require.NoError(t, ns.Put("reminder-hour", value.Text("7")))
	x, found, err = hour.Lookup()
	assert.Equal(t, []any{18, true}, []any{x, found})
	assert.ErrorIs(t, err, pantry.ErrWrongKind)
	var pe *pantry.Error
	require.ErrorAs(t, err, &pe)
	assert.Equal(t, []any{value.KindText, value.KindInt, "reminder-hour", "plotbook"}, []any{pe.Got, pe.Want, pe.Name, pe.Place})

	require.NoError(t, ns.Put("reminder-hour", value.Int(31)))
	x, found, err = hour.Lookup()
	assert.Equal(t, []any{18, true}, []any{x, found})
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.NotErrorIs(t, err, pantry.ErrWrongKind)

	require.NoError(t, hour.Set(7))
	x, found, err = hour.Lookup()
	assert.Equal(t, []any{7, true, nil}, []any{x, found, err})
}

// A default that stood in for a bad value is never written back.
func TestDefaultIsNotWrittenBack(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir(), quiet)
	require.NoError(t, ns.Put("reminder-hour", value.Text("garbage")))
	hour := reminderHour.In(ns)
	assert.Equal(t, 18, hour.Get())
	for name, write := range map[string]func() error{
		"Add":    func() error { _, err := pantry.Add(hour, 1); return err },
		"Raise":  func() error { _, err := pantry.Raise(hour, 20); return err },
		"Update": func() error { _, err := hour.Update(func(old int) (int, error) { return old + 1, nil }); return err },
		"batch": func() error {
			return ns.Commit(func(b *pantry.Batch) error {
				_, _ = reminderHour.In(b).Update(func(old int) (int, error) { return 1, nil })
				return nil
			})
		},
	} {
		assert.ErrorIs(t, write(), pantry.ErrWrongKind, name)
	}
	e, found := ns.Entry("reminder-hour")
	assert.True(t, found)
	assert.Equal(t, "garbage", e.Value.String())
	require.Len(t, ns.Problems(), 1, "one bad value is reported once")
	assert.Equal(t, "reminder-hour", ns.Problems()[0].Name)
	require.NoError(t, hour.Clear())
	assert.Equal(t, 19, must(pantry.Add(hour, 1))(t))
}

func TestOperations(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	hour := reminderHour.In(ns)
	assert.Equal(t, 20, must(pantry.Add(hour, 2))(t), "an absent entry starts from the default")
	now, err := pantry.Add(hour, 4)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.Equal(t, 20, now)
	assert.Equal(t, 20, must(pantry.Raise(hour, 3))(t))
	assert.Equal(t, 3, must(pantry.Lower(hour, 3))(t))

	small := pantry.Int[int8]("small", 100).In(ns)
	_, err = pantry.Add(small, 100)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	_, err = pantry.Add(pantry.Int("big", math.MaxInt).In(ns), 1)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.InDelta(t, 1.5, must(pantry.Add(harvest.In(ns), 1.5))(t), 0)

	q := queue.In(ns)
	assert.Equal(t, []string{"A1", "C4"}, must(pantry.Append(q, "C4"))(t))
	assert.Equal(t, []string{"A1", "C4", "B2"}, must(pantry.AppendUnique(q, "C4", "B2"))(t))
	assert.Equal(t, []string{"C4", "B2"}, must(pantry.Remove(q, "A1"))(t))
	notices := pantry.List[string]("notices").Keep(2).In(ns)
	assert.Equal(t, []string{"b", "c"}, must(pantry.Append(notices, "a", "b", "c"))(t))
	require.NoError(t, notices.Set([]string{"1", "2", "3"}))
	assert.Equal(t, []string{"2", "3"}, notices.Get())
	var walked []string
	for i, bed := range pantry.Each(q) {
		walked = append(walked, fmt.Sprint(i, bed))
	}
	assert.Equal(t, []string{"0C4", "1B2"}, walked)
}

func TestNothingChanged(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	require.NoError(t, reminderHour.In(ns).Set(18))
	assert.EqualValues(t, 1, ns.Version(), "a Set of the default where nothing is stored is a commit")
	require.NoError(t, reminderHour.In(ns).Set(18))
	require.NoError(t, reminderHour.In(ns).Seed(7))
	require.NoError(t, plot.In(ns).Clear())
	assert.EqualValues(t, 1, ns.Version())
	assert.Equal(t, 18, reminderHour.In(ns).Get())
	require.NoError(t, harvest.In(ns).Set(5))
	require.NoError(t, ns.Put("harvest/total-kg", value.Int(5)))
	assert.EqualValues(t, 3, ns.Version(), "5 is not 5.0")
	assert.InDelta(t, 5.0, harvest.In(ns).Get(), 0, "a Float key reads an int that is exact")
}

func TestGetGivesACopy(t *testing.T) {
	t.Parallel()
	def := []string{"A1"}
	ns := open(t, t.TempDir())
	q := pantry.List("hose/queue", def...).In(ns)
	def[0] = "spoilt"
	q.Get()[0] = "spoilt"
	assert.Equal(t, []string{"A1"}, q.Get())
	given := []string{"C4"}
	require.NoError(t, q.Set(given))
	given[0] = "spoilt"
	q.Get()[0] = "spoilt"
	assert.Equal(t, []string{"C4"}, q.Get())
	_, err := q.Update(func(old []string) ([]string, error) { old[0] = "spoilt"; return nil, errors.New("no") })
	assert.EqualError(t, err, "no")
	assert.Equal(t, []string{"C4"}, q.Get())
}

func TestCommit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir)
	own := errors.New("own")
	var escaped pantry.Var[int]
	for name, c := range map[string]struct {
		f  func(b *pantry.Batch) error
		is error
	}{
		"own error":       {func(b *pantry.Batch) error { _ = reminderHour.In(b).Set(1); return own }, own},
		"ignored refusal": {func(b *pantry.Batch) error { _ = reminderHour.In(b).Set(1); _ = reminderHour.In(b).Set(99); return nil }, pantry.ErrInvalid},
		"bad name":        {func(b *pantry.Batch) error { _ = plot.In(b).Set("C4"); _ = b.Put("a//b", value.Int(1)); return nil }, pantry.ErrInvalid},
		"taken name": {func(b *pantry.Batch) error {
			_, _ = b.Put("x", value.Int(1)), b.Put("y", value.Int(1))
			_ = b.Rename("x", "y")
			return nil
		}, pantry.ErrConflict},
		"too large": {func(b *pantry.Batch) error { _ = plot.In(b).Set(strings.Repeat("x", 1<<20)); return nil }, pantry.ErrTooLarge},
	} {
		assert.ErrorIs(t, ns.Commit(c.f), c.is, name)
		assert.Zero(t, ns.Version(), name)
	}
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		escaped = reminderHour.In(b)
		require.NoError(t, escaped.Set(7))
		assert.Equal(t, 7, escaped.Get(), "a batch sees its own changes")
		assert.Equal(t, 18, reminderHour.In(ns).Get(), "and no other program does")
		require.NoError(t, plot.In(b).Set("C4"))
		require.NoError(t, b.Rename("plot", "bed"))
		return b.Drop("nothing")
	}))
	assert.EqualValues(t, 1, ns.Version())
	_, found := ns.Entry("plot")
	assert.False(t, found)
	assert.ErrorIs(t, escaped.Set(8), pantry.ErrClosed)
	assert.Equal(t, 7, escaped.Get())
}

// A commit of very many changes is one commit like any other.
func TestLargeCommit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir)
	const n = 40_000
	for range 2 {
		require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
			for i := range n {
				count := pantry.Int("beds", 0).At(fmt.Sprint(i)).In(b)
				require.NoError(t, count.Set(count.Get()+i))
			}
			return nil
		}))
	}
	require.NoError(t, ns.Close())
	ns = open(t, dir, quiet) // the file is over 4 MiB, which is reported
	assert.EqualValues(t, 2, ns.Version())
	sum := 0
	for e := range ns.Entries("beds/") {
		x, _ := e.Value.AsInt()
		sum += int(x)
	}
	assert.Equal(t, n*(n-1), sum)
}

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

func TestConcurrentAdds(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	one, two := open(t, dir), open(t, dir)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			litres := pantry.Int("tank/litres", 0).In([]*pantry.Namespace{one, two}[i%2])
			for range 50 {
				var err error
				if i < 4 {
					_, err = pantry.Add(litres, 1)
				} else {
					_, err = litres.Update(func(old int) (int, error) { return old + 1, nil })
				}
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	assert.Equal(t, 400, pantry.Int("tank/litres", 0).In(one).Get())
	assert.EqualValues(t, 400, two.Version())
}

// A reader that has seen a value never sees an older one, and all see the last one.
func TestGetKeepsUp(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir(), pantry.SyncWithin(250*time.Millisecond))
	shared := pantry.Int("n", 0)
	const last = 3000
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			bound := shared.In(ns)
			for seen := 0; seen < last; {
				now := bound.Get()
				if now < seen {
					t.Errorf("%d after %d", now, seen)
					return
				}
				seen = now
				if fresh := shared.In(ns).Get(); fresh < seen {
					t.Errorf("another variable returns %d after %d", fresh, seen)
					return
				} else {
					seen = fresh
				}
			}
		})
	}
	writer := shared.In(ns)
	for i := range last {
		require.NoError(t, writer.Set(i+1))
		require.Equal(t, i+1, writer.Get(), "one's own change shows at once")
	}
	all.Wait()
}

// A name has more variables than are notified of each change.
func TestManyVariablesOfOneEntry(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir(), pantry.SyncWithin(250*time.Millisecond))
	var all []pantry.Var[int]
	for range 40 {
		all = append(all, pantry.Int("n", 0).In(ns))
	}
	for i := range 10 {
		require.NoError(t, all[i].Set(i))
		for _, v := range all {
			for range 3 { // as it is read first, kept, and handed out
				require.Equal(t, i, v.Get())
			}
		}
	}
}

// Keys made on the fly leave one node a name behind, and no more.
func TestKeysOnTheFlyDoNotLeak(t *testing.T) {
	ns := open(t, t.TempDir())
	watered := pantry.Int("watered", 0)
	use := func(n int) {
		for i := range n {
			watered.At(fmt.Sprint("bed", i%10)).In(ns).Get()
		}
	}
	heap := func() uint64 {
		var m runtime.MemStats
		for range 3 {
			runtime.GC()
		}
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	use(1000)
	before := heap()
	use(200_000)
	grown := int64(heap()) - int64(before)
	assert.Less(t, grown, int64(4<<20), "200,000 variables of ten names")
}

func TestWatch(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	hour := reminderHour.In(ns)
	var seen []int
	for x := range hour.Watch(t.Context()) {
		seen = append(seen, x)
		if x == 3 {
			break
		}
		require.NoError(t, hour.Set(len(seen)), "the body may write")
	}
	assert.Equal(t, []int{18, 1, 2, 3}, seen)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for range hour.Watch(ctx) {
		t.Error("a Watch whose context has ended does nothing")
	}
	var names [][]string
	for changed := range ns.Watch(t.Context(), reminderHour, plot) {
		names = append(names, changed)
		switch len(names) {
		case 1:
			require.NoError(t, harvest.In(ns).Set(2))
			require.NoError(t, plot.In(ns).Set("C4"))
		case 2:
			require.NoError(t, ns.Close(), "the body may close")
		}
	}
	assert.Equal(t, [][]string{{"reminder-hour", "plot"}, {"plot"}}, names)
	assert.ErrorIs(t, hour.Set(1), pantry.ErrClosed)
	assert.Equal(t, 3, hour.Get(), "Get keeps the last value")
	assert.NoError(t, ns.Close())
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

// A machine for rapid: random operations on a namespace and on a plain map,
// with reopening among them.
func TestAgainstAMap(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	round := 0
	rapid.Check(t, func(rt *rapid.T) {
		round++
		name := fmt.Sprint("round-", round)
		open := func() *pantry.Namespace {
			ns, err := pantry.Open(dir, name)
			require.NoError(rt, err)
			return ns
		}
		ns := open()
		defer func() { assert.NoError(rt, ns.Close()) }()
		model := map[string]string{}
		names := rapid.SampledFrom([]string{"a", "b", "a/b", "c"})
		values := rapid.Custom(func(rt *rapid.T) value.Value {
			v, err := value.Infer(rapid.SampledFrom([]string{"1", "1.0", "true", "", "x", "[1,[2.5]]", `{"a":[]}`, "-7"}).Draw(rt, "value"))
			require.NoError(rt, err)
			return v
		})
		form := func(v value.Value) string { return v.Kind().String() + " " + string(v.AppendJSON(nil)) }
		rt.Repeat(map[string]func(*rapid.T){
			"put": func(rt *rapid.T) {
				name, v := names.Draw(rt, "name"), values.Draw(rt, "v")
				require.NoError(rt, ns.Put(name, v))
				model[name] = form(v)
			},
			"drop": func(rt *rapid.T) {
				name := names.Draw(rt, "name")
				require.NoError(rt, ns.Drop(name))
				delete(model, name)
			},
			"commit": func(rt *rapid.T) {
				fail := rapid.Bool().Draw(rt, "fail")
				n := rapid.IntRange(0, 3).Draw(rt, "n")
				next := map[string]string{}
				err := ns.Commit(func(b *pantry.Batch) error {
					for range n {
						name, v := names.Draw(rt, "name"), values.Draw(rt, "v")
						require.NoError(rt, b.Put(name, v))
						next[name] = form(v)
					}
					if fail {
						return errors.New("no")
					}
					return nil
				})
				assert.Equal(rt, fail, err != nil)
				if !fail {
					for name, v := range next {
						model[name] = v
					}
				}
			},
			"reopen": func(rt *rapid.T) {
				version := ns.Version()
				require.NoError(rt, ns.Close())
				ns = open()
				assert.Equal(rt, version, ns.Version())
			},
			"": func(rt *rapid.T) {
				got := map[string]string{}
				for e := range ns.Entries("") {
					got[e.Name] = form(e.Value)
				}
				assert.Equal(rt, model, got)
			},
		})
	})
}

// A file that was cut at any byte has the state after some commit, and the next writer continues from there.
func TestCutAtEveryByte(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir)
	for hour := range 4 {
		require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
			return errors.Join(reminderHour.In(b).Set(hour), plot.In(b).Set(strings.Repeat("x", hour)))
		}))
	}
	whole, err := os.ReadFile(ns.Path())
	require.NoError(t, err)
	header := strings.IndexByte(string(whole), '\n') + 1
	for size := range len(whole) {
		cut := t.TempDir()
		path := filepath.Join(cut, "plotbook.jsonl")
		require.NoError(t, os.WriteFile(path, whole[:size], 0o600))
		_, err := pantry.Open(cut, "plotbook", pantry.ReadOnly(), pantry.Strict())
		if size < header {
			require.ErrorIs(t, err, pantry.ErrDamaged, "cut at %d", size)
			continue
		}
		ns, err := pantry.Open(cut, "plotbook", quiet)
		require.NoError(t, err, "cut at %d", size)
		lines := strings.Count(string(whole[:size]), "\n") - 1
		require.EqualValues(t, lines, ns.Version(), "cut at %d", size)
		if hour, found, err := reminderHour.In(ns).Lookup(); lines > 0 {
			require.NoError(t, err)
			require.True(t, found)
			require.Equal(t, lines-1, hour)
			require.Equal(t, strings.Repeat("x", hour), plot.In(ns).Get())
		}
		torn := whole[size-1] != '\n'
		require.Len(t, ns.Problems(), map[bool]int{true: 1}[torn], "cut at %d", size)
		require.NoError(t, reminderHour.In(ns).Set(23))
		require.NoError(t, ns.Close())
		again, err := pantry.Open(cut, "plotbook")
		require.NoError(t, err)
		require.Equal(t, 23, reminderHour.In(again).Get())
		require.Empty(t, again.Problems())
		require.NoError(t, again.Close())
	}
}

func TestFollowsAnotherWriter(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	w := open(t, dir)
	r := open(t, dir, pantry.ReadOnly(), pantry.Follow(time.Millisecond))
	require.NoError(t, reminderHour.In(w).Set(1))
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	for x := range reminderHour.In(r).Watch(ctx) {
		if x == 5 {
			break
		}
		if x != 18 {
			require.NoError(t, reminderHour.In(w).Set(x+1))
		}
	}
	assert.NoError(t, ctx.Err())
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
