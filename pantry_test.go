package pantry_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/test/hang"
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
	ctx, cancel := context.WithTimeout(t.Context(), hang.Patience)
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
