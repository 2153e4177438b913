package board_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/small-pantry/pantry/value"
)

// The answers of somebody else on the way to the board.
var somebodyElse = map[string]http.HandlerFunc{
	"a sign-in page": func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<html>Sign in to the network</html>")
	},
	"a redirect": func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://sign.example/", http.StatusFound)
	},
	"a 403 page": func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "blocked", http.StatusForbidden) },
	"a 404 page": func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "nothing here", http.StatusNotFound) },
	"a 502 page": func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "bad gateway", http.StatusBadGateway) },
	"half a JSON": func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"board":"rowan`)
	},
	"another JSON": func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusForbidden)
		fmt.Fprint(w, `{"code":"forbidden","detail":"a gateway says so"}`)
	},
}

// An answer that is not the board's says nothing about a write: it stays queued, also if the write was
// done, and counts once when the board answers again.
func TestAnswersOfSomebodyElse(t *testing.T) {
	t.Parallel()
	for name, answer := range somebodyElse {
		for _, done := range []bool{false, true} {
			t.Run(fmt.Sprint(name, ", done ", done), func(t *testing.T) {
				t.Parallel()
				st := newStore(t)
				b := st.join(t, board.Offline(t.TempDir()), board.Patience(20*time.Millisecond), board.Poll(20*time.Millisecond, 50*time.Millisecond))
				n := board.On(b, pantry.Int("n", 0))
				require.NoError(t, b.Ready(t.Context()))
				st.answer(func(w http.ResponseWriter, r *http.Request) {
					if done && r.Method == http.MethodPost {
						st.pass(httptest.NewRecorder(), r)
					}
					answer(w, r)
				})
				for range 3 {
					_, err := board.Add(t.Context(), n, 1)
					assert.ErrorIs(t, err, board.ErrQueued)
					sentence, ok := pantry.Sentence(err)
					assert.True(t, ok)
					assert.Equal(t, "No connection: your change is saved and will be sent later.", sentence)
				}
				st.answer(nil)
				until(t, n, func(s board.State[int]) bool { return s.Value == 3 && s.Queued == 0 })
				assert.Empty(t, b.Pending())
			})
		}
	}
}

// While another process uses a directory of Offline, Join returns ErrBusy.
func TestOfflineOfAnotherProcess(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	dir := t.TempDir()
	require.NoError(t, join(t, s, board.Offline(dir)).Close())
	locks, err := filepath.Glob(filepath.Join(dir, ".*.outbox"))
	require.NoError(t, err)
	require.Len(t, locks, 1)
	release, err := journal.Hold(locks[0]) // as another process does
	require.NoError(t, err)
	_, err = board.Join(s.Link("rowan-street"), board.Offline(dir))
	assert.ErrorIs(t, err, pantry.ErrBusy)
	assert.ErrorContains(t, err, "another process")
	require.NoError(t, release())
	require.NoError(t, join(t, s, board.Offline(dir)).Close())
}

// Two Boards of one process share the queue of a directory: both show what waits, each change is sent
// once, and one sends what the other left when it was closed.
func TestOfflineIsShared(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	dir := t.TempDir()
	key := pantry.Int("n", 0)
	one, two := st.join(t, board.Offline(dir)), st.join(t, board.Offline(dir))
	a, b := board.On(one, key), board.On(two, key)
	require.NoError(t, one.Ready(t.Context()))
	require.NoError(t, two.Ready(t.Context()))
	require.NoError(t, a.Set(t.Context(), 10))
	until(t, b, func(s board.State[int]) bool { return s.Value == 10 && s.Mine })

	st.answer(func(w http.ResponseWriter, r *http.Request) { panic(http.ErrAbortHandler) })
	until(t, a, func(s board.State[int]) bool { return s.Phase == board.Stale })
	until(t, b, func(s board.State[int]) bool { return s.Phase == board.Stale })
	for _, v := range []board.Var[int]{a, b, a} {
		_, err := board.Add(t.Context(), v, 1)
		require.ErrorIs(t, err, board.ErrQueued)
	}
	for _, v := range []board.Var[int]{a, b} {
		s := v.State()
		assert.Equal(t, []any{10, 13, 3, board.Queued}, []any{s.Value, s.Waiting, s.Queued, s.Phase})
	}
	assert.Equal(t, one.Pending(), two.Pending())
	require.NoError(t, one.Close())
	st.answer(nil)
	until(t, b, func(s board.State[int]) bool { return s.Value == 13 && s.Queued == 0 })
	assert.Empty(t, two.Pending())
	require.NoError(t, two.Close())
	e, _, err := st.join(t).Entry(t.Context(), "n")
	require.NoError(t, err)
	assert.Equal(t, "13", e.Value.String(), "each once")
}

// An operation on a key with a Check that waits for the network is checked when it is sent.
func TestQueuedOperationIsChecked(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	even := pantry.Int("n", 0).Check(func(n int) error {
		if n%2 != 0 {
			return errors.New("Enter an even number.")
		}
		return nil
	})
	b, other := st.join(t, board.Offline(t.TempDir())), st.join(t)
	v := board.On(b, even)
	require.NoError(t, b.Ready(t.Context()))
	st.answer(func(w http.ResponseWriter, r *http.Request) { panic(http.ErrAbortHandler) })
	until(t, v, func(s board.State[int]) bool { return s.Phase == board.Stale })
	for range 2 {
		_, err := board.Add(t.Context(), v, 2)
		require.ErrorIs(t, err, board.ErrQueued)
	}
	somebody := httptest.NewRequest("PUT", st.URL+"/v1/boards/rowan-street/entries/n", strings.NewReader("7"))
	somebody.RemoteAddr = "127.0.0.1:4711"
	address, err := net.ResolveTCPAddr("tcp", st.Listener.Addr().String())
	require.NoError(t, err)
	somebody = somebody.WithContext(context.WithValue(t.Context(), http.LocalAddrContextKey, address))
	did := httptest.NewRecorder()
	st.pass(did, somebody)
	require.Equal(t, http.StatusCreated, did.Code, did.Body)
	st.answer(nil)
	until(t, v, func(s board.State[int]) bool { return s.Queued == 0 && s.Version > 0 })
	e, _, err := other.Entry(t.Context(), "n")
	require.NoError(t, err)
	assert.Equal(t, "7", e.Value.String(), "9 does not pass the key's Check")
	require.Len(t, b.Pending(), 2)
	for _, p := range b.Pending() {
		assert.ErrorIs(t, p.Err, pantry.ErrInvalid)
	}
}

// OnProblem can close the board, and wait for the goroutine that closes it.
func TestCloseFromOnProblem(t *testing.T) {
	t.Parallel()
	closed := make(chan error, 1)
	joined := make(chan *board.Board, 1)
	b, err := board.Join("http://127.0.0.1:1/boards/rowan-street", board.OnProblem(func(pantry.Problem) {
		b := <-joined
		closed <- b.Close()
		joined <- b
	}), board.Poll(time.Millisecond, time.Millisecond))
	require.NoError(t, err)
	joined <- b
	board.On(b, tankLitres)
	select {
	case err := <-closed:
		assert.NoError(t, err)
	case <-time.After(hang.Patience):
		t.Fatal("Close does not return")
	}
	turn := make(chan struct{})
	b, err = board.Join("http://127.0.0.1:1/boards/rowan-street", board.OnProblem(func(pantry.Problem) { <-turn }))
	require.NoError(t, err)
	board.On(b, tankLitres)
	require.Eventually(t, func() bool { return b.Status().Failed > 0 }, hang.Patience, time.Millisecond)
	require.NoError(t, b.Close(), "although OnProblem waits")
	close(turn)
}

// Two servers with different data behind one address do not make the client ask without end.
func TestTwoServersBehindOneAddress(t *testing.T) {
	t.Parallel()
	one, other := newStore(t), newStore(t)
	for i, st := range []*store{one, other} {
		b := st.join(t)
		for n := range 3 + i {
			require.NoError(t, board.On(b, pantry.Int("n", 0)).Set(t.Context(), 10*i+n))
		}
		require.NoError(t, b.Close())
	}
	var asked atomic.Int64
	front := newStore(t)
	front.answer(func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1)%2 == 0 {
			other.pass(w, r)
		} else {
			one.pass(w, r)
		}
	})
	problems := make(chan error, 100)
	b := front.join(t, board.OnProblem(func(p pantry.Problem) { problems <- p.Err }), board.Poll(time.Second, time.Second))
	board.On(b, pantry.Int("n", 0))
	time.Sleep(2 * time.Second) // what is counted is how often it asks in that time
	assert.Less(t, asked.Load(), int64(80))
}

// Ready ends after the Timeout, with the reason.
func TestReadyEnds(t *testing.T) {
	t.Parallel()
	b, err := board.Join("http://127.0.0.1:1/boards/rowan-street", board.Timeout(500*time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	defer b.Close()
	board.On(b, tankLitres)
	err = b.Ready(context.Background())
	assert.ErrorIs(t, err, board.ErrUnreachable)
	assert.ErrorContains(t, err, "refused")
}

// After a relaunch without a network, an app shows what it last knew: single values, collections, and
// since when.
func TestRelaunchWithoutANetwork(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	dir := t.TempDir()
	type bed struct{ Crop string }
	beds := pantry.RecordsOf[bed]("plantings")
	b := st.join(t, board.Offline(dir))
	records := board.OnRecords(b, beds)
	require.NoError(t, records.Put(t.Context(), "C4", bed{"peas"}))
	require.NoError(t, records.Put(t.Context(), "B2", bed{"beans"}))
	require.NoError(t, board.On(b, tankLitres).Set(t.Context(), 410))
	require.NoError(t, b.Ready(t.Context()))
	require.Eventually(t, func() bool { return records.Len() == 2 }, hang.Patience, time.Millisecond)
	answered := b.Status().Answered
	require.NoError(t, b.Close())
	st.answer(func(w http.ResponseWriter, _ *http.Request) { panic(http.ErrAbortHandler) })
	b = st.join(t, board.Offline(dir), board.OnProblem(func(pantry.Problem) {}))
	records = board.OnRecords(b, beds)
	shown := map[string]string{}
	for id, one := range records.All() {
		shown[id] = one.Crop
	}
	assert.Equal(t, map[string]string{"C4": "peas", "B2": "beans"}, shown)
	s := board.On(b, tankLitres).State()
	assert.Equal(t, []any{410, board.Stale}, []any{s.Value, s.Phase})
	assert.WithinDuration(t, answered, s.AsOf, 5*time.Second)
	require.NoError(t, b.Close())
	st.answer(nil)
	other := st.join(t)
	require.NoError(t, board.OnRecords(other, beds).Drop(t.Context(), "B2"))
	b = st.join(t, board.Offline(dir))
	records = board.OnRecords(b, beds)
	require.Eventually(t, func() bool { return records.Len() == 1 }, hang.Patience, time.Millisecond, "what was removed meanwhile goes")
}

// A change that is being sent can't be discarded, and one that was refused can be sent again as the
// user's decision.
func TestDiscardAndRetry(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t, board.Offline(t.TempDir()), board.Patience(10*time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 1))
	until(t, tank, shows(1))
	hold, arrived := make(chan struct{}), make(chan struct{}, 1)
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		http.Error(w, "down", http.StatusServiceUnavailable)
	})
	require.ErrorIs(t, tank.Set(t.Context(), 2), board.ErrQueued)
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			select {
			case arrived <- struct{}{}:
			default:
			}
			<-hold
		}
		st.pass(w, r)
	})
	<-arrived
	pending := b.Pending()
	require.Len(t, pending, 1)
	assert.ErrorIs(t, b.Discard(pending[0].ID), pantry.ErrBusy)
	close(hold)
	until(t, tank, func(s board.State[int]) bool { return s.Value == 2 && s.Queued == 0 })
	assert.ErrorIs(t, b.Discard(pending[0].ID), pantry.ErrAbsent)
	assert.Zero(t, tank.State().Queued)

	st.answer(func(w http.ResponseWriter, r *http.Request) { panic(http.ErrAbortHandler) })
	require.ErrorIs(t, tank.Set(t.Context(), 3), board.ErrQueued)
	st.answer(nil)
	direct := st.join(t)
	_ = board.On(direct, tankLitres).Set(t.Context(), 50) // it may come before or after the queued one
	require.Eventually(t, func() bool { return tank.State().Queued == 0 }, hang.Patience, time.Millisecond)
	for _, p := range b.Pending() {
		assert.ErrorIs(t, p.Err, pantry.ErrConflict)
		require.NoError(t, b.Retry(p.ID))
	}
	until(t, tank, func(s board.State[int]) bool { return s.Queued == 0 && (s.Value == 3 || s.Value == 50) })
	require.Eventually(t, func() bool { return len(b.Pending()) == 0 }, hang.Patience, time.Millisecond)
}

// A variable that is bound while a change of its name is queued, or while that is sent, counts the change
// once, and no longer once it has been sent.
func TestQueuedChangesAreCountedOnce(t *testing.T) {
	t.Parallel()
	var way tunnel
	b := join(t, boardtest.NewServer(t), board.Offline(t.TempDir()), board.HTTPClient(&http.Client{Transport: &way}))
	require.NoError(t, b.Ready(t.Context()))
	way.inside.Store(true)
	b.Resume() // so that it polls now
	first := board.On(b, pantry.Int("n", 0))
	until(t, first, func(s board.State[int]) bool { return s.Err != nil })
	queue := func(name string) {
		_, err := b.Put(t.Context(), name, value.Int(1))
		assert.ErrorIs(t, err, board.ErrQueued)
	}
	var vars [40]board.Var[int]
	var binding sync.WaitGroup
	bind := func(from, to int, reached func() int) { // each as its change is reached
		binding.Go(func() {
			for i := from; i < to; i++ {
				for reached() < i {
					runtime.Gosched()
				}
				vars[i] = board.On(b, pantry.Int(fmt.Sprint("beds/", i), 0))
			}
		})
	}
	var queued atomic.Int64
	bind(0, 20, func() int { return int(queued.Load()) })
	for i := range vars {
		queued.Store(int64(i))
		queue(fmt.Sprint("beds/", i))
	}
	binding.Wait()
	for i, v := range vars[:20] {
		assert.Equal(t, 1, v.State().Queued, i)
	}
	bind(20, 40, func() int { return 40 - b.Status().Queued })
	way.inside.Store(false)
	b.Resume()
	binding.Wait()
	require.True(t, sent(t, b))
	for _, v := range vars {
		until(t, v, func(s board.State[int]) bool { return s.Queued == 0 && s.Phase == board.Current })
	}
}
