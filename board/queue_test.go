package board_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/cases"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
	s := boardtest.NewServer(t)
	var way choosy
	phone := join(t, s, board.Offline(t.TempDir()), board.HTTPClient(&http.Client{Transport: &way}))
	a, b := board.On(phone, pantry.Int("a", 0)), board.On(phone, pantry.Int("b", 0))
	require.NoError(t, phone.Ready(t.Context()))
	way.loses.Store(true)
	assert.ErrorIs(t, a.Set(t.Context(), 1), board.ErrQueued, "it was done, and the answer was lost")
	until(t, a, func(s board.State[int]) bool { return s.Value == 1 }) // but by another way
	require.Eventually(t, func() bool { return phone.Status().Err == nil }, hang.Patience, time.Millisecond)
	assert.ErrorIs(t, b.Set(t.Context(), 2), board.ErrQueued, "the server is there, but others wait")
	assert.ErrorIs(t, a.Set(t.Context(), 3), board.ErrQueued)
	assert.ErrorIs(t, a.Set(t.Context(), 4), board.ErrQueued)
	pending := phone.Pending()
	require.Len(t, pending, 3)
	assert.Equal(t, []bool{true, false, false}, []bool{pending[0].Sent, pending[1].Sent, pending[2].Sent})
	assert.Equal(t, []string{"1", "2", "4"}, []string{pending[0].Ops[0].Op.Operand.String(), pending[1].Ops[0].Op.Operand.String(), pending[2].Ops[0].Op.Operand.String()})
	way.loses.Store(false)
	require.True(t, sent(t, phone))
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
	require.Eventually(t, func() bool { return len(met.list()) > 0 }, hang.Patience, time.Millisecond)
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

// away is the client of a phone without a network.
var away = &http.Client{Transport: &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) {
	return nil, &net.OpError{Op: "dial", Net: "tcp", Err: errors.New("no network")}
}}}

// A queued change shares nothing with what the caller passed, nor with what Pending returned.
func TestQueuedChangeIsACopy(t *testing.T) {
	t.Parallel()
	owner, stop := serve()
	defer stop()
	b, err := board.Join(owner, board.Offline(t.TempDir()), board.HTTPClient(away), board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	defer b.Close()
	prefix := "bed/"
	back := board.Restore{Version: 3, Names: []string{"hose"}, Prefix: &prefix}
	_, err = b.Commit(t.Context(), board.Op{Restore: &back})
	require.ErrorIs(t, err, board.ErrQueued)
	for range 2 {
		*back.Prefix, back.Names[0], back.Version = "", "gate", 0
		back = *b.Pending()[0].Ops[0].Restore
		assert.Equal(t, []any{int64(3), []string{"hose"}, "bed/"}, []any{back.Version, back.Names, *back.Prefix})
	}
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
	require.Eventually(t, func() bool { return len(b.Pending()) == 0 }, hang.Patience, time.Millisecond)
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
	require.True(t, sent(t, b))
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
	require.Eventually(t, func() bool { return strings.Contains(s.Holds(name, "tank/litres"), `"value":60,`) }, hang.Patience, 5*time.Millisecond)
	require.Eventually(t, func() bool { return len(b.Pending()) == 1 }, hang.Patience, time.Millisecond)
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
