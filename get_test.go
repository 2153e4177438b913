package pantry_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

// A Get that decodes an older value while another goroutine sets a newer one does not keep the older
// one for later Gets.
func TestGetBesideASet(t *testing.T) {
	t.Parallel()
	var slow atomic.Bool
	decoding, goOn := make(chan struct{}), make(chan struct{})
	hour := pantry.Int("reminder-hour", 1).Check(func(x int) error {
		if x == 2 && slow.CompareAndSwap(true, false) {
			close(decoding)
			<-goOn
		}
		return nil
	}).In(open(t, t.TempDir()))
	require.NoError(t, hour.Set(1))
	require.Equal(t, []int{1, 1}, []int{hour.Get(), hour.Get()}) // from now on it is kept
	require.NoError(t, hour.Set(2))
	slow.Store(true)
	var reader sync.WaitGroup
	reader.Go(func() { hour.Get() })
	<-decoding
	require.NoError(t, hour.Set(3))
	close(goOn)
	reader.Wait()
	assert.Equal(t, 3, hour.Get())
}
