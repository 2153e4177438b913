package board_test

import (
	"errors"
	"fmt"
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
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
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

// A gate holds requests that write, and then their answers, until a test lets them pass.
type gate struct {
	arrived chan struct{} // a request is here
	leave   chan error    // an error ends the request before it is sent
	answer  chan struct{} // the answer may come
}

func (g gate) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Method != http.MethodPost {
		return http.DefaultTransport.RoundTrip(r)
	}
	g.arrived <- struct{}{}
	if err := <-g.leave; err != nil {
		return nil, err
	}
	resp, err := http.DefaultTransport.RoundTrip(r)
	<-g.answer
	return resp, err
}

// A change that is queued after another change of the app was stored does not conflict with it, although the
// app made it before.
func TestQueuedAfterAnOwnChange(t *testing.T) {
	t.Parallel()
	firsts := map[string]func(hour board.Var[int]) error{
		"Set": func(hour board.Var[int]) error { return hour.Set(t.Context(), 7) },
		"Add": func(hour board.Var[int]) error { _, err := board.Add(t.Context(), hour, 7); return err },
		"Update": func(hour board.Var[int]) error {
			_, err := hour.Update(t.Context(), func(old int) (int, error) { return old + 7, nil })
			return err
		},
	}
	for name, first := range firsts {
		run := func(t *testing.T, answeredFirst bool) {
			s := boardtest.NewServer(t)
			g := gate{make(chan struct{}, 10), make(chan error), make(chan struct{})}
			var met problems
			phone := join(t, s, board.Offline(t.TempDir()), board.HTTPClient(&http.Client{Transport: g}), board.OnProblem(met.add))
			hour := board.On(phone, pantry.Int("hour", 0))
			require.NoError(t, phone.Ready(t.Context()))
			results := make(chan error)
			go func() { results <- first(hour) }()
			<-g.arrived
			g.leave <- nil
			go func() { results <- hour.Set(t.Context(), 8) }()
			<-g.arrived
			noNetwork := &net.OpError{Op: "dial", Err: errors.New("no network")}
			if answeredFirst {
				g.answer <- struct{}{}
				require.NoError(t, <-results)
				g.leave <- noNetwork
				require.ErrorIs(t, <-results, board.ErrQueued)
			} else {
				g.leave <- noNetwork
				require.ErrorIs(t, <-results, board.ErrQueued)
				select {
				case <-g.arrived:
					t.Error("the queued change was sent before the first one was answered")
				case <-time.After(200 * time.Millisecond): // there is no event for a change that is not sent
				}
				g.answer <- struct{}{}
				require.NoError(t, <-results)
			}
			close(g.answer)
			close(g.leave)
			require.True(t, sent(t, phone))
			assert.Empty(t, phone.Pending())
			until(t, hour, shows(8))
			assert.Zero(t, met.like(pantry.ErrConflict))
		}
		t.Run(name+" is answered first", func(t *testing.T) { run(t, true) })
		t.Run(name+" is answered later", func(t *testing.T) { run(t, false) })
	}
}

// The same, where the answer of the first change came too late to be shown, and a poll fails.
func TestQueuedAfterAnUnseenChange(t *testing.T) {
	t.Parallel()
	for _, queued := range []bool{false, true} {
		t.Run(fmt.Sprint("the first is queued: ", queued), func(t *testing.T) {
			s := boardtest.NewServer(t)
			var phone *board.Board
			var cut, late atomic.Bool
			var met problems
			phone = join(t, s, board.Offline(t.TempDir()), board.WithoutPush(), board.OnProblem(met.add), board.HTTPClient(&http.Client{Transport: tripper(func(rq *http.Request) (*http.Response, error) {
				if cut.Load() {
					return nil, &net.OpError{Op: "dial", Err: errors.New("no network")}
				}
				resp, err := http.DefaultTransport.RoundTrip(rq)
				if rq.Method == http.MethodPost && late.CompareAndSwap(true, false) {
					cut.Store(true)
					board.On(phone, pantry.Int("minute", 0)) // from now on more is requested
				}
				return resp, err
			})}))
			hour := board.On(phone, pantry.Int("hour", 0))
			require.NoError(t, phone.Ready(t.Context()))
			if cut.Store(queued); queued {
				require.ErrorIs(t, hour.Set(t.Context(), 7), board.ErrQueued)
				late.Store(true)
				cut.Store(false)
				require.True(t, sent(t, phone))
			} else {
				late.Store(true)
				require.NoError(t, hour.Set(t.Context(), 7))
			}
			require.ErrorIs(t, hour.Set(t.Context(), 8), board.ErrQueued)
			cut.Store(false)
			require.True(t, sent(t, phone))
			until(t, hour, shows(8))
			assert.Empty(t, phone.Pending())
			assert.Zero(t, met.like(pantry.ErrConflict))
		})
	}
}

type tripper func(*http.Request) (*http.Response, error)

func (f tripper) RoundTrip(rq *http.Request) (*http.Response, error) { return f(rq) }

// What is done without a network is kept over a kill of the app, sent in order, and counts
// once; what was known last is shown meanwhile.
func TestOffline(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
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
	s.Cut()
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

	require.Eventually(t, func() bool { return met.like(board.ErrUnreachable) == 2 }, hang.Patience, time.Millisecond, "once an outage, of each launch")

	// The network is back, and the first answers are lost.
	_, err = board.Add(t.Context(), tank, 5)
	assert.Error(t, err, "the network is that of all")
	s.LoseAnswers(2)
	s.Connect()
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
	s := boardtest.NewServer(t)
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
	require.True(t, sent(t, phone))
	until(t, theirs[1], func(s board.State[int]) bool { return s.Value == 20 })
	until(t, theirs[3], func(s board.State[int]) bool { return s.Value == 4 })
	pending := phone.Pending()
	require.Len(t, pending, 2)
	assert.ErrorIs(t, pending[0].Err, pantry.ErrConflict)
	assert.Equal(t, []any{"a", value.Int(9)}, []any{pending[0].Theirs.Name, pending[0].Theirs.Value})
	assert.ErrorIs(t, pending[1].Err, pantry.ErrConflict)
	assert.Equal(t, 5, theirs[4].Get(), "the condition that was given holds")
	require.NoError(t, phone.Discard(pending[1].ID))
	assert.Equal(t, 9, theirs[0].Get())
	assert.Equal(t, 8, theirs[2].Get(), "a seed that came second is no conflict")
	require.Eventually(t, func() bool { return met.like(pantry.ErrConflict) == 2 }, hang.Patience, time.Millisecond, "reported")
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
	s := boardtest.NewServer(t)
	dir := t.TempDir()
	phone := join(t, s, board.Offline(dir))
	tank := board.On(phone, tankLitres)
	require.NoError(t, phone.Ready(t.Context()))
	s.Cut()
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Stale })
	_, err := board.Add(t.Context(), tank, 5)
	assert.ErrorIs(t, err, board.ErrQueued)
	require.NoError(t, phone.Close())
	s.Connect()
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
		}, hang.Patience, time.Millisecond, sentence)
	}
	assert.Never(t, func() bool {
		_, found, err := tank.Lookup(t.Context())
		return found || err != nil
	}, 300*time.Millisecond, 20*time.Millisecond, "it is not sent")
	require.NoError(t, phone.Discard("1"))
	require.NoError(t, tank.Set(t.Context(), 3), "and the board goes on")
}
