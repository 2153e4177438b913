package board_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server that can't be reached is reported once an outage. The states of variables say why, from the first
// failed attempt on.
func TestOutageIsToldOnce(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	s.Cut()
	var met problems
	b := join(t, s, board.OnProblem(met.add))
	tank := board.On(b, tankLitres)
	until(t, tank, func(s board.State[int]) bool {
		return s.Phase == board.Unknown && errors.Is(s.Err, board.ErrUnreachable)
	})
	require.Eventually(t, func() bool { return b.Status().Failed > 3 }, hang.Patience, time.Millisecond)
	require.Eventually(t, func() bool { return met.like(board.ErrUnreachable) == 1 }, hang.Patience, time.Millisecond)
	s.Connect()
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Current && s.Err == nil })
	s.Cut()
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Stale && errors.Is(s.Err, board.ErrUnreachable) })
	require.Eventually(t, func() bool { return b.Status().Failed > 8 }, hang.Patience, time.Millisecond)
	assert.Equal(t, 2, met.like(board.ErrUnreachable), "once an outage")
	s.Connect()
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Current })
	assert.Equal(t, "push", func() string {
		require.Eventually(t, func() bool { return b.Status().Way == "push" }, hang.Patience, time.Millisecond)
		return b.Status().Way
	}(), "and it is pushed again")

	// With every transport, a restart shows nothing older and loses nothing.
	for n := range 5 {
		require.NoError(t, tank.Set(t.Context(), n+1))
		s.Restart()
		until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Current && s.Value == n+1 })
	}
}

// Ready waits for all that was bound before the call, and no longer than needed.
func TestReady(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t)
	first := board.On(b, tankLitres)
	require.NoError(t, b.Ready(t.Context()))
	hold := make(chan struct{})
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.RawQuery, "gate") {
			<-hold
		}
		st.pass(w, r)
	})
	board.On(b, pantry.Bool("gate/open", false))
	ready := make(chan error, 1)
	go func() { ready <- b.Ready(t.Context()) }()
	select {
	case <-ready:
		t.Error("it was ready before the second variable was known")
	case <-time.After(50 * time.Millisecond):
	}
	close(hold)
	require.NoError(t, <-ready)
	assert.Equal(t, board.Current, first.State().Phase)

	st.answer(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(401)
		_, _ = io.WriteString(w, `{"code":"unauthorized","detail":"the link is none any more","status":401,"title":"Unauthorized"}`)
	})
	other := st.pushed(t)
	v := board.On(other, tankLitres)
	err := other.Ready(t.Context())
	assert.ErrorIs(t, err, board.ErrForbidden, "a link that is refused is no wait")
	state := v.State()
	assert.Equal(t, board.Unknown, state.Phase)
	assert.ErrorIs(t, state.Err, board.ErrForbidden)
}

// Retry-After holds for polls, for calls for one at once, and for writes.
func TestRetryAfterIsHeeded(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t, board.Patience(time.Second))
	tank := board.On(b, tankLitres)
	require.NoError(t, b.Ready(t.Context()))
	var asked atomic.Int64
	st.answer(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.Header().Set("Content-Type", "application/problem+json")
		w.Header().Set("Retry-After", "60")
		w.WriteHeader(503)
		_, _ = io.WriteString(w, `{"code":"unavailable","detail":"busy","status":503,"title":"x"}`)
	})
	require.Eventually(t, func() bool { return asked.Load() > 0 }, hang.Patience, time.Millisecond)
	for range 11 {
		err := tank.Set(t.Context(), 1)
		assert.ErrorIs(t, err, board.ErrUnreachable)
		b.Resume() // calls for a poll
	}
	time.Sleep(100 * time.Millisecond) // a poll would come in this time; no event marks that none was sent
	assert.LessOrEqual(t, asked.Load(), int64(2), "one poll, and a write that was on its way")
	var e *board.Error
	require.ErrorAs(t, tank.Set(t.Context(), 1), &e)
	assert.Greater(t, e.RetryAfter, 50*time.Second)
	assert.Contains(t, e.Sentence, "wants to be asked again in")
}

// While the server is down, or something before it answers, the last value is kept, calls fail, and nothing of these
// answers is taken for the board's.
func TestAnswersOfOthers(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t)
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 420))
	until(t, tank, shows(420))
	for name, f := range map[string]http.HandlerFunc{
		"down": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(503)
			_, _ = io.WriteString(w, `{"code":"unavailable","detail":"busy"}`)
		},
		"cut":     func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) },
		"sign-in": func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "<html>Sign in") },
		"elsewhere": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		},
		"half": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, `{"entries":[{"name":"tank/litres"`)
		},
		"a proxy's 502": func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "<html>Bad gateway", http.StatusBadGateway)
		},
		"{}":   func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "{}") },
		"null": func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "null") },
		"another board": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, `{"board":"elm-street","version":99,"mark":"99.00000000","entries":[],"gone":[],"whole":true}`)
		},
		"unasked 304": func(w http.ResponseWriter, r *http.Request) {
			if r.Header.Get("If-None-Match") == "" {
				w.WriteHeader(304)
				return
			}
			w.WriteHeader(500)
		},
	} {
		st.answer(f)
		s := until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Stale })
		assert.Equal(t, 420, s.Value, name)
		err := tank.Set(t.Context(), 1)
		require.Error(t, err, name)
		_, err2 := board.Add(t.Context(), tank, 1)
		assert.Error(t, err2, name)
		_, _, err2 = tank.Lookup(t.Context())
		assert.Error(t, err2, name)
		if name == "a proxy's 502" {
			assert.ErrorIs(t, err, board.ErrUncertain, "it may have been done")
			assert.NotEqual(t, board.Refused, tank.State().Phase)
		}
		st.answer(nil)
		require.NoError(t, tank.Set(t.Context(), 420))
		until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Current && s.Value == 420 })
	}
	st.answer(func(w http.ResponseWriter, r *http.Request) { // one entry of a kind that is not known
		if r.Method != http.MethodGet {
			st.pass(w, r)
			return
		}
		rec := &body{ResponseWriter: w}
		st.pass(rec, r)
		_, _ = w.Write([]byte(strings.Replace(rec.text.String(), `"kind":"bool","value":true`, `"kind":"colour","value":"red"`, 1)))
	})
	gate := board.On(b, pantry.Bool("gate/open", false))
	_, err := b.Put(t.Context(), "gate/open", value.Bool(true))
	require.NoError(t, err)
	require.NoError(t, tank.Set(t.Context(), 421))
	until(t, tank, shows(421))
	_ = gate.State()
}

type body struct {
	http.ResponseWriter
	text strings.Builder
}

func (b *body) Write(p []byte) (int, error) { return b.text.Write(p) }

// After a Watch of everything has ended, polls request only what variables need.
func TestEndedWatchAsksForNothing(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	var asked sync.Map
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			asked.Store(r.URL.Query().Get("name"), time.Now())
		}
		st.pass(w, r)
	})
	b := st.join(t)
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 1))
	_, err := b.Put(t.Context(), "other", value.Int(1))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	all := make(chan []string, 10)
	go func() {
		for names := range b.Watch(ctx) {
			all <- names
		}
		close(all)
	}()
	<-all
	for range b.Watch(t.Context()) { // a second one, which ends before
		break
	}
	_, err = b.Put(t.Context(), "another", value.Int(1))
	require.NoError(t, err)
	assert.Contains(t, <-all, "another", "the first one goes on")
	cancel()
	for range all {
	}
	_, found := b.Known("other")
	assert.False(t, found)
	require.NoError(t, tank.Set(t.Context(), 2))
	polled := func() { // four polls from now; the first may have begun
		polls := b.Status().Polls
		require.Eventually(t, func() bool { return b.Status().Polls > polls+3 }, hang.Patience, time.Millisecond)
	}
	polled()
	asked.Delete("")
	polled()
	_, everything := asked.Load("")
	assert.False(t, everything)
	until(t, tank, shows(2))
}

// The keys of an app are sent at the first contact, and what it should look at is reported as a problem. So
// are names outside Only.
func TestDeclareAndOnly(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	first := join(t, s, board.Declare(tankLitres))
	require.Eventually(t, func() bool {
		keys, _, err := first.Keys(t.Context())
		return err == nil && len(keys) == 1
	}, hang.Patience, time.Millisecond)
	var met problems
	second := join(t, s, board.Declare(pantry.Int("tank/litre", 0)), board.OnProblem(met.add), board.Only("tank/"))
	require.Eventually(t, func() bool {
		met.mu.Lock()
		defer met.mu.Unlock()
		var f *board.FindingError
		return len(met.all) == 1 && errors.As(met.all[0].Err, &f) && f.Finding.Code == "near"
	}, hang.Patience, time.Millisecond)
	assert.Panics(t, func() { board.On(second, pantry.Bool("gate/open", false)) })
	require.NoError(t, board.On(first, pantry.Bool("gate/open", false)).Set(t.Context(), true))
	require.NoError(t, board.On(first, tankLitres).Set(t.Context(), 5))
	for names := range second.Watch(t.Context()) {
		if len(names) > 0 {
			assert.Equal(t, []string{"tank/litres"}, names)
			break
		}
	}
	_, err := board.Join(s.Link("rowan-street"), board.Only("tank"))
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	raw, err := json.Marshal(second.Status().Way)
	require.NoError(t, err)
	assert.Contains(t, `"push""wait""poll"`, string(raw))
}
