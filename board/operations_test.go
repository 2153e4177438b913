package board_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/small-pantry/pantry/value"
)

// join joins a board of a server with trouble at hand, quickly.
func join(t *testing.T, s *boardtest.Server, opts ...board.Option) *board.Board {
	t.Helper()
	opts = append([]board.Option{
		board.Poll(5*time.Millisecond, 20*time.Millisecond), board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}),
	}, opts...)
	b, err := board.Join(s.Link("rowan-street"), opts...)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	return b
}

// The operations mean on a board what they mean on a device: each step is made on both, and
// both must answer the same and hold the same.
func TestOperationsAsOnADevice(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	b := join(t, s)
	ns, err := pantry.Open(t.TempDir(), "plotbook")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, ns.Close()) })
	ctx := t.Context()
	litres := pantry.Int("tank/litres", 10).Between(0, 100)
	small := pantry.Int[int8]("small", 100)
	weight := pantry.Float("weight", 0.5)
	beds := pantry.List("beds", "C4").Keep(3)
	word := pantry.OneOf("word", "one", "two")
	same := func(what string, onBoard, onDevice any, errBoard, errDevice error) {
		t.Helper()
		assert.Equal(t, onDevice, onBoard, what)
		for _, is := range []error{pantry.ErrInvalid, pantry.ErrWrongKind, pantry.ErrConflict, pantry.ErrAbsent} {
			assert.Equal(t, errors.Is(errDevice, is), errors.Is(errBoard, is), "%s: %v here, and %v on a device", what, errBoard, errDevice)
		}
		assert.Equal(t, errDevice == nil, errBoard == nil, "%s: %v here, and %v on a device", what, errBoard, errDevice)
	}
	lb, ld := board.On(b, litres), litres.In(ns)
	sb, sd := board.On(b, small), small.In(ns)
	fb, fd := board.On(b, weight), weight.In(ns)
	qb, qd := board.On(b, beds), beds.In(ns)
	wb, wd := board.On(b, word), word.In(ns)
	require.NoError(t, b.Ready(ctx))
	for i, n := range []int{5, -20, 5, 96, 1} {
		x, e1 := board.Add(ctx, lb, n)
		y, e2 := pantry.Add(ld, n)
		same(fmt.Sprint("add ", i), x, y, e1, e2)
	}
	for i, n := range []int{50, 7, 101} {
		x, e1 := board.Raise(ctx, lb, n)
		y, e2 := pantry.Raise(ld, n)
		same(fmt.Sprint("raise ", i), x, y, e1, e2)
		x, e1 = board.Lower(ctx, lb, n-40)
		y, e2 = pantry.Lower(ld, n-40)
		same(fmt.Sprint("lower ", i), x, y, e1, e2)
	}
	for i, n := range []int8{27, 1, 1} { // past the type's range, which the server must know
		x, e1 := board.Add(ctx, sb, n)
		y, e2 := pantry.Add(sd, n)
		same(fmt.Sprint("small ", i), x, y, e1, e2)
	}
	for i, n := range []float64{0.25, -1} {
		x, e1 := board.Add(ctx, fb, n)
		y, e2 := pantry.Add(fd, n)
		same(fmt.Sprint("float ", i), x, y, e1, e2)
	}
	for i, items := range [][]string{{"A1", "B2"}, {"C4", "D5"}, {}, {"D5"}} {
		x, e1 := board.Append(ctx, qb, items...)
		y, e2 := pantry.Append(qd, items...)
		same(fmt.Sprint("append ", i), x, y, e1, e2)
		x, e1 = board.AppendUnique(ctx, qb, items...)
		y, e2 = pantry.AppendUnique(qd, items...)
		same(fmt.Sprint("unique ", i), x, y, e1, e2)
	}
	x, e1 := board.Remove(ctx, qb, "D5", "none")
	y, e2 := pantry.Remove(qd, "D5", "none")
	same("remove", x, y, e1, e2)
	x, e1 = board.RemoveAll(ctx, qb, "D5")
	y, e2 = pantry.RemoveAll(qd, "D5")
	same("remove all", x, y, e1, e2)
	for i, at := range []int{0, -1, 0, 0} {
		item, found, e1 := board.Take(ctx, qb, at)
		item2, found2, e2 := pantry.Take(qd, at)
		same(fmt.Sprint("take ", i), []any{item, found}, []any{item2, found2}, e1, e2)
	}
	for i, w := range []string{"two", "three"} {
		same(fmt.Sprint("set ", i), nil, nil, wb.Set(ctx, w), wd.Set(w))
		assert.Equal(t, wd.Get(), wb.Get())
	}
	same("seed", nil, nil, wb.Seed(ctx, "one"), wd.Seed("one"))
	same("clear", nil, nil, wb.Clear(ctx), wd.Clear())
	same("clear again", nil, nil, wb.Clear(ctx), wd.Clear())
	assert.Equal(t, board.Current, wb.State().Phase)
	same("seed again", nil, nil, wb.Seed(ctx, "two"), wd.Seed("two"))
	for i, f := range []func(string) (string, error){
		func(string) (string, error) { return "one", nil }, func(string) (string, error) { return "four", nil }, func(s string) (string, error) { return s, assert.AnError },
	} {
		x, e1 := wb.Update(ctx, f)
		y, e2 := wd.Update(f)
		same(fmt.Sprint("update ", i), x, y, e1, e2)
	}
	onBoard, onDevice := map[string]string{}, map[string]string{}
	entries, _, err := b.All(ctx, "")
	require.NoError(t, err)
	for _, e := range entries {
		onBoard[e.Name] = e.Value.Kind().String() + " " + e.Value.String()
	}
	for e := range ns.Entries("") {
		onDevice[e.Name] = e.Value.Kind().String() + " " + e.Value.String()
	}
	assert.Equal(t, onDevice, onBoard)
	assert.Panics(t, func() {
		board.On(b, pantry.Map("m", map[string]int{}))
		_, _, _ = board.Take(ctx, board.Var[[]string]{}, 0)
	})
}

// What was seen is the condition; what is pending is not a value.
func TestSetIf(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	one, two := join(t, s), join(t, s)
	mine, theirs := board.On(one, tankLitres), board.On(two, tankLitres)
	var pending board.State[int]
	assert.ErrorIs(t, mine.SetIf(t.Context(), pending, 1), pantry.ErrInvalid, "the zero State is pending")
	require.NoError(t, one.Ready(t.Context()))
	seen := mine.State()
	assert.False(t, seen.Found)
	require.NoError(t, mine.SetIf(t.Context(), seen, 1))
	assert.ErrorIs(t, mine.SetIf(t.Context(), seen, 2), pantry.ErrConflict, "it is not absent any more")
	assert.Equal(t, board.Refused, mine.State().Phase)
	seen = mine.State()
	require.NoError(t, theirs.Set(t.Context(), 5))
	assert.ErrorIs(t, mine.SetIf(t.Context(), seen, 2), pantry.ErrConflict)
	until(t, mine, func(s board.State[int]) bool { return s.Value == 5 })
	require.NoError(t, mine.SetIf(t.Context(), mine.State(), 6))

	// Many update at once, and no update is lost.
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for n := 0; n < 10; {
				if _, err := theirs.Update(t.Context(), func(old int) (int, error) { return old + 1, nil }); err == nil {
					n++
				} else {
					assert.ErrorIs(t, err, pantry.ErrConflict)
				}
			}
		})
	}
	all.Wait()
	until(t, mine, func(s board.State[int]) bool { return s.Value == 86 })

	// Several steps in one commit, whole or not at all.
	gate := board.On(one, pantry.Bool("gate/open", false))
	_, err := one.Commit(t.Context(), board.OpAdd(mine, -6), board.OpPut(gate, true), board.OpRaise(mine, 0))
	require.NoError(t, err)
	assert.Equal(t, []any{80, true}, []any{mine.Get(), gate.Get()})
	_, err = one.Commit(t.Context(), board.OpClear(gate), board.OpAdd(mine, -1000))
	assert.ErrorIs(t, err, value.ErrOutOfRange)
	assert.Equal(t, []any{80, true}, []any{mine.Get(), gate.Get()})
	_, err = one.Commit(t.Context(), board.OpPut(mine, -1))
	assert.Error(t, err, "what a key refuses can't be sent by an op")
	queue := board.On(one, pantry.List[string]("hose/queue").Keep(2))
	_, err = one.Commit(t.Context(), board.OpLower(mine, 75), board.OpAppend(queue, "C4"), board.OpAppend(queue, "B2"), board.OpAppend(queue, "A1"))
	require.NoError(t, err)
	assert.Equal(t, []any{75, []string{"B2", "A1"}}, []any{mine.Get(), queue.Get()}, "the newest two are kept")
	done, err := one.Commit(t.Context(), board.OpTake(queue, 0), board.OpPut(gate, false))
	require.NoError(t, err)
	assert.Equal(t, []any{value.Text("B2"), []string{"A1"}}, []any{done.Results[0].Taken, queue.Get()})
}

// A struct keeps what a newer app has put in it.
func TestUnknownMembersAreKept(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	b := join(t, s)
	type planting struct{ Crop, Bed string }
	type newer struct {
		Crop, Bed string
		Sown      int
	}
	old, now := board.On(b, pantry.Object("p", planting{})), board.On(b, pantry.Object("p", newer{}))
	require.NoError(t, now.Set(t.Context(), newer{"beans", "C4", 3}))
	require.NoError(t, old.Set(t.Context(), planting{"peas", "C4"}))
	assert.Equal(t, newer{"peas", "C4", 3}, now.Get())
	_, err := old.Update(t.Context(), func(p planting) (planting, error) { p.Bed = "A1"; return p, nil })
	require.NoError(t, err)
	assert.Equal(t, newer{"peas", "A1", 3}, now.Get())

	// Also what this phone has not heard of.
	b.Pause()
	other := join(t, s)
	require.NoError(t, board.On(other, pantry.Object("p", newer{})).Set(t.Context(), newer{"peas", "A1", 4}))
	require.NoError(t, old.Set(t.Context(), planting{"beans", "A1"}))
	x, _, err := now.Lookup(t.Context())
	require.NoError(t, err)
	assert.Equal(t, newer{"beans", "A1", 4}, x)
}

// Settings and records live on a board too.
func TestFieldsAndRecordsOnABoard(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	one, two := join(t, s), join(t, s)
	type settings struct {
		ReminderHour int
		Units        string
		Beds         []string
	}
	key := pantry.Fields(settings{18, "metric", nil}).With(pantry.Int("reminder-hour", 18).Between(0, 23))
	mine, theirs := board.OnFields(one, key), board.OnFields(two, key)
	assert.ErrorIs(t, mine.Set(t.Context(), settings{1, "x", nil}), pantry.ErrInvalid, "nothing is known yet")
	require.NoError(t, one.Ready(t.Context()))
	require.NoError(t, two.Ready(t.Context()))
	assert.Equal(t, settings{18, "metric", nil}, mine.Get())
	require.NoError(t, mine.Set(t.Context(), settings{7, "metric", []string{"C4"}}))
	entries, _, err := one.All(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, entries, 2, "only what differs is written")
	for state := range theirs.Watch(t.Context()) {
		if state.Value.ReminderHour == 7 {
			break
		}
	}
	theirs.Get().Beds[0] = "spoilt"
	assert.Equal(t, "C4", theirs.Get().Beds[0], "the value of Get is the caller's own copy")
	_, err = theirs.Update(t.Context(), func(s settings) (settings, error) { s.Units = "imperial"; return s, nil })
	require.NoError(t, err)
	now, err := mine.Update(t.Context(), func(s settings) (settings, error) { s.ReminderHour++; return s, nil })
	require.NoError(t, err)
	assert.Equal(t, 8, now.ReminderHour)
	require.Eventually(t, func() bool { return mine.Get().Units == "imperial" }, hang.Patience, time.Millisecond)
	_, err = mine.Update(t.Context(), func(s settings) (settings, error) { s.ReminderHour = 99; return s, nil })
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	_, err = one.Put(t.Context(), "units", value.Text("metric"))
	require.NoError(t, err)
	_, err = one.Commit(t.Context(), board.Op{Name: "units", Op: value.Op{Verb: value.Put, Operand: value.Int(3), Kind: value.KindInt}})
	require.NoError(t, err)
	state := mine.State()
	assert.Equal(t, []any{board.Unreadable, "metric", 8}, []any{state.Phase, state.Value.Units, state.Value.ReminderHour}, "one field that can't be used spoils itself alone")
	_, err = mine.Update(t.Context(), func(s settings) (settings, error) { s.Units = "imperial"; return s, nil })
	assert.ErrorIs(t, err, pantry.ErrWrongKind)
	require.NoError(t, mine.Clear(t.Context()))
	assert.Equal(t, settings{18, "metric", nil}, mine.Get())

	type planting struct{ Crop, Bed string }
	plantings := pantry.RecordsOf[planting]("plantings")
	recs, others := board.OnRecords(one, plantings), board.OnRecords(two, plantings)
	seen := make(chan []string, 100)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		for ids := range others.Watch(ctx) {
			seen <- ids
		}
	}()
	assert.Empty(t, <-seen)
	ids := map[string]bool{}
	var mu sync.Mutex
	var adding sync.WaitGroup
	for i := range 6 {
		adding.Go(func() {
			id, err := []board.Records[planting]{recs, others}[i%2].Add(t.Context(), planting{"beans", fmt.Sprint("C", i)})
			assert.NoError(t, err)
			mu.Lock()
			defer mu.Unlock()
			ids[id] = true
		})
	}
	adding.Wait()
	assert.Len(t, ids, 6, "each its own id")
	require.NoError(t, recs.Put(t.Context(), "12", planting{"peas", "A1"}))
	require.NoError(t, recs.Put(t.Context(), "by-the-gate", planting{"roses", "G"}))
	id, err := recs.Add(t.Context(), planting{"marrow", "B"})
	require.NoError(t, err)
	assert.Regexp(t, `^[0-9a-v]{26}$`, id)
	for earlier := range ids {
		assert.Less(t, earlier, id, "ids are in the order of time")
	}
	_, err = recs.Update(t.Context(), "12", func(p planting) (planting, error) { p.Bed = "A2"; return p, nil })
	require.NoError(t, err)
	_, err = recs.Update(t.Context(), "99", func(p planting) (planting, error) { return p, nil })
	assert.ErrorIs(t, err, pantry.ErrAbsent)
	sorted := slices.Sorted(maps.Keys(ids))
	require.NoError(t, recs.Drop(t.Context(), sorted[0], "77", sorted[1]))
	assert.ErrorIs(t, recs.Put(t.Context(), "a/b", planting{}), pantry.ErrInvalid)
	require.Eventually(t, func() bool { return others.Len() == 7 }, hang.Patience, time.Millisecond)
	var order []string
	for id := range others.All() {
		order = append(order, id)
	}
	assert.Equal(t, slices.Concat([]string{"12"}, sorted[2:], []string{id, "by-the-gate"}), order, "numbers first, and the others by their bytes")
	assert.Equal(t, planting{"peas", "A2"}, others.Get("12"))
	told := map[string]bool{}
	for len(told) < 9 {
		for _, id := range <-seen {
			told[id] = true
		}
	}
	require.NoError(t, recs.Clear(t.Context()))
	assert.Zero(t, recs.Len())
	p, found, err := others.Lookup(t.Context(), "12")
	assert.Equal(t, []any{planting{}, false, nil}, []any{p, found, err})
}

// A namespace moves to a board and back with its names and kinds.
func TestCopyBothWays(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	b := join(t, s)
	open := func(name string) *pantry.Namespace {
		ns, err := pantry.Open(t.TempDir(), name)
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, ns.Close()) })
		return ns
	}
	from, to := open("plotbook"), open("copy")
	at := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	for name, v := range map[string]value.Value{"n": value.Int(1<<53 + 1), "f": value.Float(5), "t": value.Text(""), "at": value.Time(at), "b": value.Bytes([]byte{0, 255}), "l": value.List(value.Int(1), value.Float(1))} {
		require.NoError(t, from.Put(name, v))
	}
	require.NoError(t, board.CopyTo(t.Context(), b, from))
	require.NoError(t, board.CopyFrom(t.Context(), b, to))
	for e := range from.Entries("") {
		got, found := to.Entry(e.Name)
		assert.True(t, found && value.Equal(got.Value, e.Value), "%s: %v", e.Name, got.Value)
	}
	require.NoError(t, from.Put("n", value.Text("words")))
	require.NoError(t, board.CopyTo(t.Context(), b, from, "n"), "in place of another kind")
	assert.ErrorIs(t, board.CopyTo(t.Context(), b, from, "none"), pantry.ErrAbsent)
	assert.ErrorIs(t, board.CopyFrom(t.Context(), b, to, "none"), pantry.ErrAbsent)
	require.NoError(t, board.CopyFrom(t.Context(), b, to, "n"))
	got, _ := to.Entry("n")
	assert.Equal(t, "words", got.Value.String())
}
