package board_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/cases"
	"github.com/small-pantry/pantry/pantrytest"
	"github.com/small-pantry/pantry/value"
)

// problems collects what is reported.
type problems struct {
	mu  sync.Mutex
	all []pantry.Problem
}

func (p *problems) add(one pantry.Problem) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.all = append(p.all, one)
}

// list returns what was reported so far. OnProblem runs in a goroutine of its own.
func (p *problems) list() []pantry.Problem {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.all)
}

func (p *problems) like(is error) (n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.all {
		if errors.Is(one.Err, is) {
			n++
		}
	}
	return n
}

// copyDir copies a directory as a kill of the app would leave it.
func copyDir(t *testing.T, dir string) string {
	to := t.TempDir()
	require.NoError(t, os.CopyFS(to, os.DirFS(dir)))
	return to
}

// What is done without a network is kept over a kill of the app, sent in order, and counts
// once; what was known last is shown meanwhile.
func TestOffline(t *testing.T) {
	t.Parallel()
	s := pantrytest.NewServer(t)
	dir := t.TempDir()
	var met problems
	open := func(dir string) *board.Board {
		return join(t, s, board.Offline(dir), board.ClientName("tankwatch"), board.OnProblem(met.add))
	}
	others := join(t, s)
	tank, gate, hose := board.On(others, tankLitres), board.On(others, pantry.Bool("gate/open", false)), board.On(others, queue)
	require.NoError(t, tank.Set(t.Context(), 420))
	phone := open(dir)
	mine, myGate, myHose := board.On(phone, tankLitres), board.On(phone, pantry.Bool("gate/open", false)), board.On(phone, queue)
	until(t, mine, shows(420))
	s.Cut(true)
	until(t, mine, func(s board.State[int]) bool { return s.Phase == board.Stale && errors.Is(s.Err, board.ErrUnreachable) })
	for range 3 {
		now, err := board.Add(t.Context(), mine, -10)
		assert.ErrorIs(t, err, board.ErrQueued)
		assert.Equal(t, 420, now, "it never looks stored")
	}
	for _, open := range []bool{true, false, true} {
		assert.ErrorIs(t, myGate.Set(t.Context(), open), board.ErrQueued)
	}
	_, err := board.AppendUnique(t.Context(), myHose, "C4", "B2")
	assert.ErrorIs(t, err, board.ErrQueued)
	_, _, err = board.Take(t.Context(), myHose, 0)
	assert.ErrorIs(t, err, board.ErrUnreachable, "its result is not known")
	assert.NotErrorIs(t, err, board.ErrQueued)
	_, err = mine.Update(t.Context(), func(n int) (int, error) { return n, nil })
	assert.ErrorIs(t, err, board.ErrUnreachable)
	state := mine.State()
	assert.Equal(t, []any{board.Queued, 420, 3}, []any{state.Phase, state.Value, state.Queued})
	pending := phone.Pending()
	require.Len(t, pending, 5, "three additions, one put for three, one commit of two")
	assert.Equal(t, "true", pending[3].Ops[0].Op.Operand.String())
	assert.Equal(t, 5, phone.Status().Queued)
	time.Sleep(1100 * time.Millisecond) // known values are saved once a second; nothing signals that

	// Killed, and opened in the tunnel still.
	second := copyDir(t, dir)
	require.NoError(t, phone.Close())
	files, err := filepath.Glob(filepath.Join(second, "*.jsonl"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	raw, err := os.ReadFile(files[0])
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"queue/000000001"`)
	phone = open(second)
	mine, myGate = board.On(phone, tankLitres), board.On(phone, pantry.Bool("gate/open", false))
	state = mine.State()
	assert.Equal(t, []any{420, true, 3, board.Queued}, []any{state.Value, state.Found, state.Queued, state.Phase})
	assert.Equal(t, board.Queued, myGate.State().Phase)
	_, err = board.Add(t.Context(), mine, -10)
	assert.ErrorIs(t, err, board.ErrQueued, "behind those that wait")
	ns, err := pantry.Open(second, strings.TrimSuffix(filepath.Base(files[0]), ".jsonl"), pantry.ReadOnly())
	require.NoError(t, err)
	e, found := ns.Entry("queue/000000001")
	require.True(t, found, "the queue can be looked at")
	assert.Contains(t, e.Value.String(), `"ops":[{"amount":-10,`)
	require.NoError(t, ns.Close())

	require.Eventually(t, func() bool { return met.like(board.ErrUnreachable) == 2 }, 10*time.Second, time.Millisecond, "once an outage, of each launch")

	// The network is back, and the first answers are lost.
	_, err = board.Add(t.Context(), tank, 5)
	assert.Error(t, err, "the network is that of all")
	s.LoseAnswers(2)
	s.Cut(false)
	until(t, mine, func(s board.State[int]) bool { return s.Queued == 0 && s.Phase == board.Current })
	until(t, myGate, func(s board.State[bool]) bool { return s.Value && s.Phase == board.Current })
	until(t, tank, shows(380))
	until(t, gate, func(s board.State[bool]) bool { return s.Value })
	until(t, hose, func(s board.State[[]string]) bool { return len(s.Value) == 2 })
	assert.Empty(t, phone.Pending())
	assert.Zero(t, met.like(pantry.ErrConflict))
	history, err := others.History(t.Context(), 0, "tank/litres")
	require.NoError(t, err)
	assert.Len(t, history, 5, "each counted once")
	assert.Equal(t, "tankwatch", history[0].By)
}

// A put that would overwrite what somebody else stored meanwhile is not applied, but
// reported and kept; one that rests on an own change is.
func TestOfflineConflicts(t *testing.T) {
	t.Parallel()
	s := pantrytest.NewServer(t)
	dir := t.TempDir()
	var met problems
	var way tunnel
	phone, others := join(t, s, board.Offline(dir), board.OnProblem(met.add), board.HTTPClient(&http.Client{Transport: &way})), join(t, s)
	keys := []pantry.Key[int]{pantry.Int("a", 0), pantry.Int("b", 0), pantry.Int("c", 0), pantry.Int("d", 0), pantry.Int("e", 0)}
	var mine, theirs []board.Var[int]
	for _, k := range keys {
		mine, theirs = append(mine, board.On(phone, k)), append(theirs, board.On(others, k))
	}
	require.NoError(t, phone.Ready(t.Context()))
	require.NoError(t, mine[0].Set(t.Context(), 1))
	require.NoError(t, mine[1].Set(t.Context(), 1))
	require.NoError(t, mine[3].Set(t.Context(), 1))
	older := mine[4].State()
	require.NoError(t, theirs[4].Set(t.Context(), 5))
	until(t, mine[4], shows(5))
	way.inside.Store(true)
	phone.Resume() // which has it asked
	until(t, mine[0], func(s board.State[int]) bool { return s.Phase == board.Stale })
	assert.ErrorIs(t, mine[0].Set(t.Context(), 2), board.ErrQueued) // a: somebody else stores meanwhile
	_, err := board.Add(t.Context(), mine[1], 10)                   // b: an own addition, and then a put on top of it
	assert.ErrorIs(t, err, board.ErrQueued)
	assert.ErrorIs(t, mine[1].Set(t.Context(), 20), board.ErrQueued)
	assert.ErrorIs(t, mine[2].Seed(t.Context(), 7), board.ErrQueued) // c: somebody else seeds it
	assert.ErrorIs(t, mine[3].Clear(t.Context()), board.ErrQueued)   // d: cleared, and set again
	assert.ErrorIs(t, mine[3].Set(t.Context(), 4), board.ErrQueued)
	assert.ErrorIs(t, mine[4].SetIf(t.Context(), older, 6), board.ErrQueued) // e: on condition of what was before
	require.NoError(t, theirs[0].Set(t.Context(), 9))
	require.NoError(t, theirs[2].Set(t.Context(), 8))
	way.inside.Store(false)
	require.Eventually(t, func() bool { return phone.Status().Queued == 0 }, 20*time.Second, time.Millisecond)
	until(t, theirs[1], func(s board.State[int]) bool { return s.Value == 20 })
	until(t, theirs[3], func(s board.State[int]) bool { return s.Value == 4 })
	pending := phone.Pending()
	require.Len(t, pending, 2)
	assert.ErrorIs(t, pending[0].Err, pantry.ErrConflict)
	assert.ErrorIs(t, pending[1].Err, pantry.ErrConflict)
	assert.Equal(t, 5, theirs[4].Get(), "the condition that was given holds")
	require.NoError(t, phone.Discard(pending[1].ID))
	assert.Equal(t, 9, theirs[0].Get())
	assert.Equal(t, 8, theirs[2].Get(), "a seed that came second is no conflict")
	require.Eventually(t, func() bool { return met.like(pantry.ErrConflict) == 2 }, 10*time.Second, time.Millisecond, "reported")
	until(t, mine[0], func(s board.State[int]) bool { return s.Phase == board.Refused && s.Value == 9 })
	require.NoError(t, theirs[0].Set(t.Context(), 10))
	until(t, mine[0], func(s board.State[int]) bool { return s.Phase == board.Refused && s.Value == 10 }) // as long as it is kept
	require.NoError(t, theirs[0].Set(t.Context(), 9))

	// It is kept over a relaunch, until it is discarded.
	require.NoError(t, phone.Close())
	phone = join(t, s, board.Offline(dir), board.OnProblem(met.add))
	again := board.On(phone, keys[0])
	until(t, again, func(s board.State[int]) bool {
		return s.Phase == board.Refused && s.Value == 9 && errors.Is(s.Err, pantry.ErrConflict)
	})
	require.Len(t, phone.Pending(), 1)
	require.NoError(t, phone.Discard(pending[0].ID))
	assert.ErrorIs(t, phone.Discard(pending[0].ID), pantry.ErrAbsent)
	until(t, again, func(s board.State[int]) bool { return s.Phase == board.Current })
	assert.Empty(t, phone.Pending())
}

// A tunnel is a network that one phone has not.
type tunnel struct{ inside atomic.Bool }

func (t *tunnel) RoundTrip(r *http.Request) (*http.Response, error) {
	if t.inside.Load() {
		return nil, errors.New("no network")
	}
	return http.DefaultTransport.RoundTrip(r)
}

// Without its instance a queue is shown, not sent; sent with another link, what may have
// arrived is not sent again.
func TestOfflineQueueOfUnknownOrigin(t *testing.T) {
	t.Parallel()
	s := pantrytest.NewServer(t)
	dir := t.TempDir()
	phone := join(t, s, board.Offline(dir))
	tank := board.On(phone, tankLitres)
	require.NoError(t, phone.Ready(t.Context()))
	s.Cut(true)
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Stale })
	_, err := board.Add(t.Context(), tank, 5)
	assert.ErrorIs(t, err, board.ErrQueued)
	require.NoError(t, phone.Close())
	s.Cut(false)
	files, err := filepath.Glob(filepath.Join(dir, "*.jsonl"))
	require.NoError(t, err)
	name := strings.TrimSuffix(filepath.Base(files[0]), ".jsonl")
	ns, err := pantry.Open(dir, name)
	require.NoError(t, err)
	require.NoError(t, ns.Drop("instance"))
	require.NoError(t, ns.Put("queue/000000009", value.Text("spoilt")))
	require.NoError(t, ns.Close())
	var met problems
	phone = join(t, s, board.Offline(dir), board.OnProblem(met.add))
	tank = board.On(phone, tankLitres)
	require.NoError(t, phone.Ready(t.Context()))
	assert.Len(t, phone.Pending(), 1)
	for _, sentence := range []string{"the id that these queued changes were sent with is lost", "queue/000000009 can't be read, and is kept"} {
		require.Eventually(t, func() bool {
			met.mu.Lock()
			defer met.mu.Unlock()
			return slices.ContainsFunc(met.all, func(p pantry.Problem) bool { return strings.Contains(p.Err.Error(), sentence) })
		}, 20*time.Second, time.Millisecond, sentence)
	}
	assert.Never(t, func() bool {
		_, found, err := tank.Lookup(t.Context())
		return found || err != nil
	}, 300*time.Millisecond, 20*time.Millisecond, "it is not sent")
	require.NoError(t, phone.Discard("1"))
	require.NoError(t, tank.Set(t.Context(), 3), "and the board goes on")
}

// A server that can't be reached is reported once an outage. The states of variables say why, from the first
// failed attempt on.
func TestOutageIsToldOnce(t *testing.T) {
	t.Parallel()
	s := pantrytest.NewServer(t)
	s.Cut(true)
	var met problems
	b := join(t, s, board.OnProblem(met.add))
	tank := board.On(b, tankLitres)
	until(t, tank, func(s board.State[int]) bool {
		return s.Phase == board.Unknown && errors.Is(s.Err, board.ErrUnreachable)
	})
	require.Eventually(t, func() bool { return b.Status().Failed > 3 }, 10*time.Second, time.Millisecond)
	require.Eventually(t, func() bool { return met.like(board.ErrUnreachable) == 1 }, 10*time.Second, time.Millisecond)
	s.Cut(false)
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Current && s.Err == nil })
	s.Cut(true)
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Stale && errors.Is(s.Err, board.ErrUnreachable) })
	require.Eventually(t, func() bool { return b.Status().Failed > 8 }, 10*time.Second, time.Millisecond)
	assert.Equal(t, 2, met.like(board.ErrUnreachable), "once an outage")
	s.Cut(false)
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Current })
	assert.Equal(t, "push", func() string {
		require.Eventually(t, func() bool { return b.Status().Way == "push" }, 10*time.Second, time.Millisecond)
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
	require.Eventually(t, func() bool { return asked.Load() > 0 }, 10*time.Second, time.Millisecond)
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

// What something before the server answers is not taken for the board's word.
func TestAnswersOfOthers(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t)
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 420))
	until(t, tank, shows(420))
	for name, f := range map[string]http.HandlerFunc{
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

// A Watch of everything that ended has nothing asked for any more.
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
		require.Eventually(t, func() bool { return b.Status().Polls > polls+3 }, 10*time.Second, time.Millisecond)
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
	s := pantrytest.NewServer(t)
	first := join(t, s, board.Declare(tankLitres))
	require.Eventually(t, func() bool {
		keys, _, err := first.Keys(t.Context())
		return err == nil && len(keys) == 1
	}, 10*time.Second, time.Millisecond)
	var met problems
	second := join(t, s, board.Declare(pantry.Int("tank/litre", 0)), board.OnProblem(met.add), board.Only("tank/"))
	require.Eventually(t, func() bool {
		met.mu.Lock()
		defer met.mu.Unlock()
		var f *board.FindingError
		return len(met.all) == 1 && errors.As(met.all[0].Err, &f) && f.Finding.Code == "near"
	}, 10*time.Second, time.Millisecond)
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

// reread returns the body of a request, which can be read again.
func reread(r *http.Request) []byte {
	if r.Body == nil {
		return nil
	}
	raw, _ := io.ReadAll(r.Body)
	r.Body.Close()
	r.Body = io.NopCloser(bytes.NewReader(raw))
	return raw
}

// A choosy network loses the answers to writes of one name.
type choosy struct{ loses atomic.Bool }

func (c *choosy) RoundTrip(r *http.Request) (*http.Response, error) {
	about := strings.Contains(string(reread(r)), `"name":"a"`)
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err == nil && about && c.loses.Load() {
		resp.Body.Close()
		return nil, errors.New("the answer was lost")
	}
	return resp, err
}

// Queued changes of any entry are sent first. One that may have arrived is not changed any more, and is sent
// again unchanged.
func TestQueueKeepsItsOrder(t *testing.T) {
	t.Parallel()
	s := pantrytest.NewServer(t)
	var way choosy
	phone := join(t, s, board.Offline(t.TempDir()), board.HTTPClient(&http.Client{Transport: &way}))
	a, b := board.On(phone, pantry.Int("a", 0)), board.On(phone, pantry.Int("b", 0))
	require.NoError(t, phone.Ready(t.Context()))
	way.loses.Store(true)
	assert.ErrorIs(t, a.Set(t.Context(), 1), board.ErrQueued, "it was done, and the answer was lost")
	until(t, a, func(s board.State[int]) bool { return s.Value == 1 }) // but by another way
	require.Eventually(t, func() bool { return phone.Status().Err == nil }, 10*time.Second, time.Millisecond)
	assert.ErrorIs(t, b.Set(t.Context(), 2), board.ErrQueued, "the server is there, but others wait")
	assert.ErrorIs(t, a.Set(t.Context(), 3), board.ErrQueued)
	assert.ErrorIs(t, a.Set(t.Context(), 4), board.ErrQueued)
	pending := phone.Pending()
	require.Len(t, pending, 3)
	assert.Equal(t, []bool{true, false, false}, []bool{pending[0].Sent, pending[1].Sent, pending[2].Sent})
	assert.Equal(t, []string{"1", "2", "4"}, []string{pending[0].Ops[0].Op.Operand.String(), pending[1].Ops[0].Op.Operand.String(), pending[2].Ops[0].Op.Operand.String()})
	way.loses.Store(false)
	require.Eventually(t, func() bool { return phone.Status().Queued == 0 }, 20*time.Second, time.Millisecond)
	assert.Empty(t, phone.Pending(), "no conflict with what was one's own")
	until(t, a, func(s board.State[int]) bool { return s.Value == 4 && s.Phase == board.Current })
	history, err := phone.History(t.Context(), 0)
	require.NoError(t, err)
	assert.Len(t, history, 3, "each counted once")
}

// The secret of a link is in no error, no problem, no status, and not in the file of the queue.
func TestSecretOfALink(t *testing.T) {
	t.Parallel()
	const secret = "0123456789abcdefghijklmnop"
	dir := t.TempDir()
	var met problems
	b, err := board.Join("http://127.0.0.1:1/boards/rowan-street#k3f9wq2d."+secret, board.Offline(dir), board.Patience(time.Millisecond), board.OnProblem(met.add))
	require.NoError(t, err)
	tank := board.On(b, tankLitres)
	until(t, tank, func(s board.State[int]) bool { return s.Err != nil })
	told := tank.State().Err.Error() + b.Status().Err.Error()
	_, err = board.Add(t.Context(), tank, 1)
	assert.ErrorIs(t, err, board.ErrQueued)
	told += err.Error()
	_, _, err = tank.Lookup(t.Context())
	told += err.Error()
	_, err = b.Tokens(t.Context())
	told += err.Error()
	require.Eventually(t, func() bool { return len(met.list()) > 0 }, 10*time.Second, time.Millisecond)
	require.NoError(t, b.Close())
	for _, p := range met.list() {
		told += p.Err.Error() + p.Place
	}
	for _, bad := range []string{"http://h/boards/Rowan#" + secret, "ftp://h/boards/b#" + secret, "http://h/x#" + secret, "http://%zz#" + secret} {
		_, err := board.Join(bad)
		require.ErrorIs(t, err, board.ErrLink)
		told += err.Error()
		_, err = board.NewAdmin(bad)
		require.Error(t, err)
		told += err.Error()
	}
	assert.NotContains(t, told, secret)
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.NotContains(t, string(raw), secret)
		}
		return err
	}))
}

// A put is not merged into a queued one of another link: each link has its own in the queue.
func TestQueuedPutOfAnotherLink(t *testing.T) {
	t.Parallel()
	owner, stop := serve()
	defer stop()
	o, err := board.Join(owner)
	require.NoError(t, err)
	defer o.Close()
	second, err := o.Invite(t.Context(), board.Invitation{May: "own", Label: "second"})
	require.NoError(t, err)
	dir := t.TempDir()
	away := &http.Client{Transport: &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) {
		return nil, &net.OpError{Op: "dial", Net: "tcp", Err: errors.New("no network")}
	}}}
	for i, link := range []string{owner, second.Link} {
		b, err := board.Join(link, board.Offline(dir), board.HTTPClient(away), board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
		require.NoError(t, err)
		for _, n := range []int{1, 2} {
			assert.ErrorIs(t, board.On(b, pantry.Int("d", 0)).Set(t.Context(), 10*i+n), board.ErrQueued)
		}
		assert.Len(t, b.Pending(), i+1, "the puts of one link are merged")
		require.NoError(t, b.Close())
	}
	b, err := board.Join(owner, board.Offline(dir), board.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	defer b.Close()
	d := board.On(b, pantry.Int("d", 0))
	until(t, d, func(s board.State[int]) bool { return s.Value == 2 && s.Queued == 0 && s.Phase == board.Current })
	assert.Len(t, b.Pending(), 1, "that of the second link is kept")
}

// A change is sent only with the link that it was made with. Another link shows it, and takes it over
// if it certainly did not arrive.
func TestQueueOfAnotherLink(t *testing.T) {
	t.Parallel()
	owner, stop := serve()
	defer stop()
	o, err := board.Join(owner)
	require.NoError(t, err)
	defer o.Close()
	second, err := o.Invite(t.Context(), board.Invitation{May: "own", Label: "second"})
	require.NoError(t, err)
	dir := t.TempDir()
	var way choosy
	open := func(link string) *board.Board {
		b, err := board.Join(link, board.Offline(dir), board.HTTPClient(&http.Client{Transport: &way}), board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
		require.NoError(t, err)
		return b
	}
	b := open(owner)
	a := board.On(b, pantry.Int("a", 0))
	require.NoError(t, b.Ready(t.Context()))
	way.loses.Store(true)
	_, err = board.Add(t.Context(), a, 1)
	assert.ErrorIs(t, err, board.ErrQueued)
	_, err = board.Add(t.Context(), board.On(b, pantry.Int("c", 0)), 5)
	assert.ErrorIs(t, err, board.ErrQueued)
	require.NoError(t, b.Close())
	way.loses.Store(false)
	b = open(second.Link)
	defer b.Close()
	require.NoError(t, b.Ready(t.Context()))
	assert.Zero(t, b.Status().Queued)
	pending := b.Pending()
	require.Len(t, pending, 2)
	for _, p := range pending {
		assert.True(t, p.Other)
		assert.NoError(t, p.Err)
	}
	c := board.On(b, pantry.Int("c", 0))
	_, found, err := c.Lookup(t.Context())
	assert.Equal(t, []any{false, nil}, []any{found, err})
	assert.ErrorIs(t, b.Retry(pending[0].ID), pantry.ErrConflict, "it may have arrived")
	require.NoError(t, b.Retry(pending[1].ID))
	until(t, c, func(s board.State[int]) bool { return s.Value == 5 && s.Phase == board.Current })
	assert.Equal(t, "second", c.State().By)
	require.NoError(t, b.Close())
	b = open(owner)
	defer b.Close()
	until(t, board.On(b, pantry.Int("a", 0)), func(s board.State[int]) bool { return s.Value == 1 && s.Queued == 0 && s.Phase == board.Current })
	require.Eventually(t, func() bool { return len(b.Pending()) == 0 }, 10*time.Second, time.Millisecond)
	x, _, err := board.On(b, pantry.Int("a", 0)).Lookup(t.Context())
	assert.Equal(t, []any{1, nil}, []any{x, err}, "it was done once")
}

// A change whose first attempt may have arrived stays uncertain, also if later attempts reach no server.
func TestAnswerLostAndThenNoServer(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	var lost atomic.Int64
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodPost && lost.Add(1) == 1: // done, and the answer lost
			st.pass(&body{ResponseWriter: w}, r)
			panic(http.ErrAbortHandler)
		case r.Method == http.MethodPost && lost.Load() < 4: // and then it certainly was not
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusServiceUnavailable)
			_, _ = io.WriteString(w, `{"code":"unavailable","detail":"busy","status":503,"title":"x"}`)
			return
		}
		st.pass(w, r)
	})
	b := st.join(t, board.Offline(t.TempDir()), board.Patience(80*time.Millisecond))
	tank := board.On(b, tankLitres)
	require.NoError(t, b.Ready(t.Context()))
	err := tank.Set(t.Context(), 5)
	if err != nil {
		require.ErrorIs(t, err, board.ErrQueued)
		for _, p := range b.Pending() {
			assert.True(t, p.Sent)
		}
	}
	require.Eventually(t, func() bool { return b.Status().Queued == 0 }, 20*time.Second, time.Millisecond)
	assert.Empty(t, b.Pending(), "the repeat is what was sent, and is known as that")
	until(t, tank, shows(5))
	history, err := b.History(t.Context(), 0)
	require.NoError(t, err)
	assert.Len(t, history, 1)
}

// A change that was sent stays as it was sent. A later change of the same name does not move its
// condition, so that a repeat of it can't overwrite what the app never saw.
func TestSentChangeIsNotAltered(t *testing.T) {
	t.Parallel()
	s := cases.NewServer(t)
	const name = "rowan-street"
	b, err := board.Join(s.Link(name), board.Offline(t.TempDir()), board.Poll(5*time.Millisecond, 20*time.Millisecond), board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 10))
	s.Do(name, "cut")
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Stale })
	require.ErrorIs(t, tank.Set(t.Context(), 5), board.ErrQueued)
	s.Others(name, "tank/litres", `{"op":"put","value":50}`)
	s.Do(name, "back")
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Refused && s.Value == 50 })
	sent := b.Pending()[0]
	require.ErrorIs(t, sent.Err, pantry.ErrConflict)
	require.True(t, sent.Sent)

	s.Do(name, "cut")
	require.ErrorIs(t, setUntilQueued(t, tank, 60), board.ErrQueued)
	s.Do(name, "back")
	require.Eventually(t, func() bool { return strings.Contains(s.Holds(name, "tank/litres"), `"value":60,`) }, 20*time.Second, 5*time.Millisecond)
	require.Eventually(t, func() bool { return len(b.Pending()) == 1 }, 20*time.Second, time.Millisecond)
	assert.Equal(t, sent, b.Pending()[0])
}

// setUntilQueued sets until the client has noticed that its server is away.
func setUntilQueued(t *testing.T, v board.Var[int], x int) error {
	t.Helper()
	until(t, v, func(s board.State[int]) bool {
		return errors.Is(s.Err, board.ErrUnreachable) || s.Phase == board.Refused
	})
	return v.Set(t.Context(), x)
}
