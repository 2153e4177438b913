package board_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What no server took is sent again, and so is an addition whose answer was lost: under
// its key, so that it counts once.
func TestWhatIsRepeated(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t, board.Patience(5*time.Second))
	tank := board.On(b, tankLitres)
	var posts atomic.Int64
	keys := make(chan string, 3)
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			n := posts.Add(1)
			keys <- r.Header.Get("Idempotency-Key")
			if n == 3 {
				st.pass(w, r)
				return
			}
			if n == 1 {
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(503)
				_, _ = w.Write([]byte(`{"code":"unavailable","detail":"busy"}`))
				return
			}
			st.pass(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
		st.pass(w, r)
	})
	now, err := board.Add(t.Context(), tank, 1)
	require.NoError(t, err)
	assert.EqualValues(t, 1, now, "it was done, and its repeat counts once")
	assert.EqualValues(t, 3, posts.Load())
	key := <-keys
	assert.Len(t, key, 32)
	assert.Equal(t, []string{key, key}, []string{<-keys, <-keys})
}

func TestServerStartedAnew(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t)
	tank := board.On(b, tankLitres)
	for i := range 5 {
		require.NoError(t, tank.Set(t.Context(), i+1))
	}
	until(t, tank, shows(5))
	other := newStore(t)
	require.NoError(t, board.On(other.join(t), tankLitres).Set(t.Context(), 77))
	st.answer(other.Config.Handler.ServeHTTP)
	// The other store's check of the host would refuse the first one's port.
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		r.Host = strings.TrimPrefix(other.URL, "http://")
		r2 := r.WithContext(context.WithValue(r.Context(), http.LocalAddrContextKey, other.Listener.Addr()))
		other.Config.Handler.ServeHTTP(w, r2)
	})
	s := until(t, tank, shows(77))
	assert.EqualValues(t, 1, s.Version, "of another lineage a lower version is newer")
}

func TestJoinRefuses(t *testing.T) {
	t.Parallel()
	for _, link := range []string{"", "rowan-street", "ftp://h/b/x", "http://h/x", "http://h/boards/", "http://h/boards/Rowan", "http://h/boards/a/b", "://"} {
		_, err := board.Join(link)
		assert.ErrorIs(t, err, board.ErrLink, link)
	}
	_, err := board.Join("http://h/x#geheim")
	assert.NotContains(t, err.Error(), "geheim")
	warned := make(chan error, 1)
	b, err := board.Join("http://garden.example/boards/x", board.OnProblem(func(p pantry.Problem) { warned <- p.Err }))
	require.NoError(t, err)
	assert.ErrorContains(t, <-warned, "https")
	require.NoError(t, b.Close())
	ctx := t.Context()
	assert.ErrorIs(t, board.On(b, tankLitres).Set(ctx, 1), pantry.ErrClosed)
	assert.ErrorIs(t, b.Ready(ctx), pantry.ErrClosed)
	b, err = board.Join("http://127.0.0.1:1/boards/x", board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	defer b.Close()
	_, _, err = b.Entry(ctx, "x")
	assert.ErrorIs(t, err, board.ErrUnreachable)
	short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	err = b.Ready(short)
	assert.True(t, errors.Is(err, board.ErrUnreachable) && errors.Is(err, context.DeadlineExceeded), "%v", err)
}

func TestTimeout(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b, patient := st.join(t, board.Timeout(30*time.Millisecond)), st.join(t)
	assert.Equal(t, "rowan-street", b.Name())
	tank := board.On(b, tankLitres)
	st.answer(func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		<-r.Context().Done()
	})
	_, _, err := tank.Lookup(t.Context())
	assert.ErrorIs(t, err, board.ErrUnreachable, "a server that says nothing")
	err = tank.Set(t.Context(), 420)
	assert.ErrorIs(t, err, board.ErrUnreachable)
	assert.ErrorContains(t, err, "no answer within the time limit")
	ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
	time.AfterFunc(150*time.Millisecond, cancel)
	_, _, err = tank.Lookup(ctx)
	assert.ErrorIs(t, err, context.Canceled, "a caller with a deadline waits until it")
	_, _, err = b.All(t.Context(), "")
	assert.ErrorIs(t, err, board.ErrUnreachable)
	st.answer(nil)
	require.NoError(t, board.On(patient, tankLitres).Set(t.Context(), 420))
	var names []string
	for e, err := range patient.Entries(t.Context(), "tank/") {
		require.NoError(t, err)
		names = append(names, e.Name)
	}
	assert.Equal(t, []string{"tank/litres"}, names)
}

// An answer that comes late and is older than what is known changes nothing.
func TestOlderAnswerIsNotShown(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	require.NoError(t, board.On(st.join(t), tankLitres).Set(t.Context(), 1))
	caught, goOn := make(chan struct{}), make(chan struct{})
	var first atomic.Bool
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet || r.Header.Get("Client-Name") != "late" || first.Swap(true) {
			st.pass(w, r)
			return
		}
		late := httptest.NewRecorder() // what the server says now, told later
		st.pass(late, r)
		close(caught)
		<-goOn
		w.WriteHeader(late.Code)
		_, _ = w.Write(late.Body.Bytes())
	})
	b := st.join(t, board.ClientName("late"))
	tank := board.On(b, tankLitres)
	<-caught
	require.NoError(t, tank.Set(t.Context(), 2))
	require.Equal(t, 2, tank.Get())
	polls := b.Status().Polls
	close(goOn)
	require.Eventually(t, func() bool { return b.Status().Polls > polls }, hang.Patience, time.Millisecond)
	assert.Equal(t, 2, tank.Get(), "the late answer is older")
}

// The client follows no redirect: its token must reach no other server.
func TestRedirectIsNotFollowed(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	t.Cleanup(elsewhere.Close)
	st := newStore(t)
	b := st.join(t)
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 420))
	for _, code := range []int{301, 302, 303, 307, 308} {
		st.answer(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, elsewhere.URL, code) })
		_, _, err := tank.Lookup(t.Context())
		require.Error(t, err, code)
		require.Error(t, tank.Set(t.Context(), 1), code)
	}
	assert.Zero(t, asked.Load())
	st.answer(nil)
	now, _, err := tank.Lookup(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 420, now)
}

// If two answers say when to ask again, the later time counts, in either order of the answers.
func TestLongerRetryAfterCounts(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	var both sync.WaitGroup
	both.Add(2)
	long := make(chan struct{})
	var first atomic.Bool
	var asked atomic.Int64
	b := st.join(t, board.Poll(time.Hour, time.Hour))
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 1))
	st.answer(func(w http.ResponseWriter, _ *http.Request) {
		seconds := "60"
		if asked.Add(1) <= 2 { // a poll can come between
			both.Done()
		}
		if first.CompareAndSwap(false, true) {
			both.Wait()
			defer close(long)
		} else {
			<-long
			seconds = "1"
		}
		w.Header().Set("Retry-After", seconds)
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(503)
		_, _ = io.WriteString(w, `{"code":"unavailable","detail":"busy","status":503,"title":"x"}`)
	})
	var all sync.WaitGroup
	for range 2 {
		all.Go(func() {
			_, _, err := tank.Lookup(t.Context())
			assert.ErrorIs(t, err, board.ErrUnreachable)
		})
	}
	all.Wait()
	var e *board.Error
	require.ErrorAs(t, tank.Set(t.Context(), 2), &e)
	assert.Greater(t, e.RetryAfter, 50*time.Second)
}

// A call that the client's own time limit ended reports that, and not the end of the caller's context.
func TestOwnTimeLimitIsNamed(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t, board.Timeout(50*time.Millisecond), board.Poll(time.Hour, time.Hour))
	tank := board.On(b, tankLitres)
	ended := make(chan struct{})
	defer close(ended)
	st.answer(func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // only then does the server notice that the client went away
		select {
		case <-r.Context().Done():
		case <-ended:
		}
	})
	_, _, err := tank.Lookup(t.Context())
	require.ErrorIs(t, err, board.ErrUnreachable)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.NotErrorIs(t, err, context.Canceled)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = tank.Lookup(ctx)
	assert.ErrorIs(t, err, context.Canceled)
	assert.NotErrorIs(t, err, context.DeadlineExceeded)
}
