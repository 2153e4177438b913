package board_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var (
	tankLitres = pantry.Int("tank/litres", 0).Between(0, 5000)
	queue      = pantry.List[string]("hose/queue")
)

// A store is a real server that a test can put trouble in front of.
type store struct {
	*httptest.Server
	pass    http.HandlerFunc                 // the server itself
	trouble atomic.Pointer[http.HandlerFunc] // answers instead of the server
	asked   atomic.Int64
}

func newStore(t *testing.T) *store {
	s, err := server.New(server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	st := &store{pass: s.ServeHTTP}
	st.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		st.asked.Add(1)
		if f := st.trouble.Load(); f != nil {
			(*f)(w, r)
			return
		}
		s.ServeHTTP(w, r)
	}))
	t.Cleanup(func() {
		st.Close()
		assert.NoError(t, s.Close())
	})
	return st
}

func (st *store) answer(f http.HandlerFunc) {
	if f == nil {
		st.trouble.Store(nil)
		return
	}
	st.trouble.Store(&f)
}

// join joins as an app that asks often, and without push, so that a test counts what is asked; pushed
// joins with it. Each has a client of its own, so that closing it leaves no connection behind.
func (st *store) join(t *testing.T, opts ...board.Option) *board.Board {
	return st.pushed(t, append([]board.Option{board.WithoutPush()}, opts...)...)
}

func (st *store) pushed(t *testing.T, opts ...board.Option) *board.Board {
	client := &http.Client{Transport: &http.Transport{}}
	opts = append([]board.Option{
		board.HTTPClient(client), board.Poll(5*time.Millisecond, 20*time.Millisecond), board.Patience(time.Millisecond),
		board.OnProblem(func(pantry.Problem) {}),
	}, opts...)
	b, err := board.Join(st.URL+"/boards/rowan-street", opts...)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, b.Close())
		client.CloseIdleConnections()
	})
	return b
}

// until waits for a state of v that is as wanted.
func until[T any](t *testing.T, v board.Var[T], wanted func(board.State[T]) bool) board.State[T] {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), hang.Patience)
	defer cancel()
	for s := range v.Watch(ctx) {
		if wanted(s) {
			return s
		}
	}
	require.FailNow(t, "the state did not come", "%+v", v.State())
	panic("unreachable")
}

// sent waits until b has sent all that it had queued. It fails if nothing leaves the queue for long.
func sent(t testing.TB, b *board.Board) bool {
	t.Helper()
	last, since := -1, time.Now()
	for {
		n := b.Status().Queued
		switch {
		case n == 0:
			return true
		case n != last:
			last, since = n, time.Now()
		case time.Since(since) > hang.Patience:
			return assert.Fail(t, "the queue is not sent", "%+v", b.Status())
		}
		time.Sleep(10 * time.Millisecond) // a queue has no event for its end
	}
}

func shows[T comparable](x T) func(board.State[T]) bool {
	return func(s board.State[T]) bool { return s.Phase == board.Current && s.Value == x }
}

func TestTwoPhones(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	one, two := st.join(t, board.ClientName("tankwatch")), st.join(t)
	tank1, tank2 := board.On(one, tankLitres), board.On(two, tankLitres)
	assert.Equal(t, board.State[int]{}, board.State[int]{Phase: board.Unknown}, "the zero State is pending")

	x, found, err := tank1.Lookup(t.Context())
	assert.Equal(t, []any{0, false, nil}, []any{x, found, err})
	require.NoError(t, tank1.Set(t.Context(), 420))
	s := tank1.State()
	assert.Equal(t, []any{420, board.Current, true, true}, []any{s.Value, s.Phase, s.Mine, s.Found}, "one's own change shows at once")
	s = until(t, tank2, shows(420))
	assert.Equal(t, []any{"tankwatch", false, int64(1)}, []any{s.By, s.Mine, s.Version})

	var all sync.WaitGroup
	for _, v := range []board.Var[int]{tank1, tank2} {
		for range 4 {
			all.Go(func() {
				for range 10 {
					_, err := board.Add(t.Context(), v, -1)
					assert.NoError(t, err)
				}
			})
		}
	}
	all.Wait()
	until(t, tank1, shows(340))
	until(t, tank2, shows(340))

	now, err := board.Add(t.Context(), tank1, 10_000)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.Equal(t, 340, now)
	assert.Equal(t, board.Refused, tank1.State().Phase)
	assert.ErrorIs(t, tank1.Set(t.Context(), -1), pantry.ErrInvalid)

	err = two.Drop(t.Context(), "tank/litres")
	require.NoError(t, err)
	s = until(t, tank1, func(s board.State[int]) bool { return !s.Found })
	assert.Equal(t, 0, s.Value, "a removed entry shows the default")
}

func TestEveryKindArrives(t *testing.T) {
	t.Parallel()
	b := newStore(t).join(t)
	moment := time.Date(2026, 5, 3, 9, 12, 44, 5, time.UTC)
	check := func(name string, set func() error, same func() bool) {
		t.Helper()
		require.NoError(t, set(), name)
		assert.True(t, same(), name)
	}
	at, raw, kg, l := board.On(b, pantry.Time("watered/C4", time.Time{})), board.On(b, pantry.Bytes("raw", nil)), board.On(b, pantry.Float("kg", 0)), board.On(b, queue)
	check("time", func() error { return at.Set(t.Context(), moment) }, func() bool { return at.Get().Equal(moment) })
	check("bytes", func() error { return raw.Set(t.Context(), []byte{0, 255}) }, func() bool { return string(raw.Get()) == "\x00\xff" })
	check("float", func() error { return kg.Set(t.Context(), 5) }, func() bool { return kg.Get() == 5 })
	check("list", func() error { return l.Set(t.Context(), []string{"C4"}) }, func() bool { return fmt.Sprint(l.Get()) == "[C4]" })
	for _, set := range []func() error{func() error { return at.Set(t.Context(), moment.Add(1)) }, func() error { return kg.Set(t.Context(), 6) }} {
		assert.NoError(t, set(), "once more, into an entry that has its kind")
	}
	e, found, err := b.Entry(t.Context(), "kg")
	require.NoError(t, err)
	assert.True(t, found)
	assert.True(t, value.Equal(value.Float(6), e.Value))
	entries, version, err := b.All(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, entries, 4)
	assert.EqualValues(t, 6, version)
}

func TestWrongKindIsNamed(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	var problems atomic.Int64
	b := st.join(t, board.OnProblem(func(pantry.Problem) { problems.Add(1) }))
	_, err := b.Put(t.Context(), "tank/litres", value.Text("plenty"))
	require.NoError(t, err)
	tank := board.On(b, tankLitres)
	s := until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Unreadable })
	assert.ErrorIs(t, s.Err, pantry.ErrWrongKind)
	assert.Equal(t, 0, s.Value)
	require.Eventually(t, func() bool { return problems.Load() == 1 }, hang.Patience, time.Millisecond)
	_, found, err := tank.Lookup(t.Context())
	assert.True(t, found)
	assert.ErrorIs(t, err, pantry.ErrWrongKind)
	_, err = board.Add(t.Context(), tank, 1)
	assert.ErrorIs(t, err, pantry.ErrWrongKind, "Update does not build on a default that replaces a bad value")
	_, err = tank.Update(t.Context(), func(n int) (int, error) { return n + 1, nil })
	assert.ErrorIs(t, err, pantry.ErrWrongKind, "nor written back")
	require.NoError(t, tank.Set(t.Context(), 5), "said on purpose, it replaces what can't be used")
	typed := board.Op{Name: "tank/litres", Op: value.Op{Verb: value.Put, Form: value.AsTyped, Raw: "6"}}
	_, err = b.Commit(t.Context(), typed.If(0, anyTime))
	assert.ErrorIs(t, err, pantry.ErrConflict)
	var be *board.Error
	require.ErrorAs(t, err, &be)
	assert.Equal(t, []any{"conflict", "commit", "rowan-street", "tank/litres"}, []any{be.Code, be.Op, be.Board, be.Name})
	until(t, tank, func(s board.State[int]) bool { return s.Value == 5 && s.Phase == board.Refused })
}

func TestPollsInOneRequestAndSlowsDown(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t)
	for i := range 50 {
		board.On(b, pantry.Int(fmt.Sprint("name", i), 0))
	}
	require.NoError(t, b.Ready(t.Context()))
	require.Eventually(t, func() bool { return b.Status().NotModified >= 3 }, hang.Patience, time.Millisecond)
	assert.Less(t, b.Status().Polls, 40, "one request for all variables, not one each")
	asked := st.asked.Load()
	b.Pause()
	require.Eventually(t, func() bool { n := st.asked.Load(); same := n == asked; asked = n; return same }, hang.Patience, 50*time.Millisecond)
	b.Resume()
	require.Eventually(t, func() bool { return st.asked.Load() > asked }, hang.Patience, time.Millisecond)
}

func TestWatchTheBoard(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b, other := st.join(t), st.join(t)
	_, err := other.Put(t.Context(), "gate/open", value.Bool(true))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), hang.Patience)
	defer cancel()
	var seen []string
	for names := range b.Watch(ctx) {
		seen = append(seen, strings.Join(names, " "))
		if len(seen) == 3 {
			e, found := b.Known("new2")
			assert.True(t, found)
			assert.Equal(t, "1", e.Value.String())
			break
		}
		_, err := other.Put(t.Context(), fmt.Sprint("new", len(seen)), value.Int(1))
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"gate/open", "new1", "new2"}, seen)
	_, found := b.Known("new2")
	assert.False(t, found, "it is not watched any more")
	admin, err := board.NewAdmin(st.URL, board.HTTPClient(&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}))
	require.NoError(t, err)
	list, err := admin.List(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, []any{"rowan-street", int64(3), true}, []any{list[0].Board, list[0].Version, list[0].Bytes > 100})
	admin, err = board.NewAdmin("http://127.0.0.1:1")
	require.NoError(t, err)
	_, err = admin.List(t.Context())
	assert.ErrorIs(t, err, board.ErrUnreachable)
	assert.ErrorContains(t, err, "list boards: http://127.0.0.1:1 can't be reached")
}

func TestAs(t *testing.T) {
	t.Parallel()
	for _, name := range []string{strings.Repeat("a", 101), "a\nb", "\xff"} {
		_, err := board.Join("http://127.0.0.1:1/boards/rowan-street", board.ClientName(name))
		assert.ErrorIs(t, err, pantry.ErrInvalid, "%q", name)
	}
	st := newStore(t)
	tank := board.On(st.join(t, board.ClientName("Wächter der Zisterne")), tankLitres)
	require.NoError(t, tank.Set(t.Context(), 420))
	assert.Equal(t, "Wächter der Zisterne", until(t, tank, shows(420)).By)
}

// What a commit removed is known at once, without asking.
func TestRemovedIsKnownAtOnce(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t)
	tank := board.On(b, tankLitres)
	require.NoError(t, b.Ready(t.Context()))
	require.NoError(t, tank.Set(t.Context(), 1))
	b.Pause()
	require.NoError(t, b.Drop(t.Context(), "tank/litres"))
	s := tank.State()
	assert.Equal(t, []any{false, 0, true, int64(2)}, []any{s.Found, s.Value, s.Mine, s.Version})
}

// Watch of a collection, or of a struct of settings, sees its entries.
func TestWatchFieldsAndRecords(t *testing.T) {
	t.Parallel()
	type planting struct{ Crop string }
	type settings struct {
		Hour  int
		Units string
	}
	plantings, fields := pantry.RecordsOf[planting]("plantings"), pantry.Fields(settings{Hour: 18})
	st := newStore(t)
	b, other := st.join(t), st.join(t)
	write := func(name string, v value.Value) {
		_, err := other.Put(t.Context(), name, v)
		require.NoError(t, err)
	}
	beans, err := value.Map(value.Member{Name: "crop", Value: value.Text("beans")})
	require.NoError(t, err)
	write("plantings/1", beans)
	ctx, cancel := context.WithTimeout(t.Context(), hang.Patience)
	defer cancel()
	var seen []string
	for names := range b.Watch(ctx, plantings, fields) {
		seen = append(seen, strings.Join(names, " "))
		switch len(seen) {
		case 1:
			write("elsewhere", value.Int(1))
			write("plantings/2", beans)
		case 2:
			write("units", value.Text("metric"))
		}
		if len(seen) == 3 {
			break
		}
	}
	assert.Equal(t, []string{"hour units plantings/1", "plantings/2", "units"}, seen)
	assert.Equal(t, "phase(99)", board.Phase(99).String())
}
