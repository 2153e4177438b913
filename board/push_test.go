package board_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

// With Push changes come by a stream, and nothing is asked while nothing happens.
func TestPush(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	one, two := st.pushed(t), st.pushed(t)
	tank1, tank2 := board.On(one, tankLitres), board.On(two, tankLitres)
	require.NoError(t, tank1.Set(t.Context(), 1))
	until(t, tank2, shows(1))
	require.Eventually(t, func() bool { return one.Status().Pushed > 0 && two.Status().Pushed > 0 }, hang.Patience, time.Millisecond)
	for n := 2; n < 30; n++ {
		require.NoError(t, tank1.Set(t.Context(), n))
		assert.Equal(t, n, tank1.Get(), "one's own change shows at once")
		until(t, tank2, shows(n))
	}
	var asked int64
	require.Eventually(t, func() bool { // for twenty polls' time nothing is asked
		asked = st.asked.Load()
		time.Sleep(100 * time.Millisecond) // the time of twenty polls; no event marks that nothing was sent
		return st.asked.Load() == asked
	}, hang.Patience, time.Millisecond)

	// What is asked for later opens another stream.
	hose := board.On(two, queue)
	_, err := one.Put(t.Context(), "hose/queue", value.List(value.Text("C4")))
	require.NoError(t, err)
	until(t, hose, func(s board.State[[]string]) bool { return len(s.Value) == 1 })
	require.NoError(t, tank1.Set(t.Context(), 99))
	until(t, tank2, shows(99))

	// Paused, nothing comes; then all of it.
	two.Pause()
	require.NoError(t, tank1.Set(t.Context(), 100))
	two.Resume()
	until(t, tank2, shows(100))
}

// A board that was ready before there was anything to ask for has it pushed at once all
// the same, not only after the slowest poll.
func TestPushOfWhatIsAskedForLater(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.pushed(t, board.Poll(time.Hour, time.Hour)) // no other poll comes
	require.NoError(t, b.Ready(t.Context()))
	tank := board.On(b, tankLitres)
	require.Eventually(t, func() bool { return b.Status().Pushed > 0 }, hang.Patience, time.Millisecond)
	assert.Zero(t, tank.Get())
}

// A stream that begins before an acknowledged write of this client is opened again: its beginning is all
// that it shows of other names.
func TestPushFromBeforeAWrite(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	_, err := st.join(t).Put(t.Context(), "gate/notice", value.Text("closed"))
	require.NoError(t, err)
	begun, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	var holds atomic.Bool
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/events") && holds.Load() {
			w = &held{ResponseWriter: w, first: func() { once.Do(func() { close(begun) }) }, goOn: goOn}
		}
		st.pass(w, r)
	})
	b := st.pushed(t, board.Poll(time.Hour, time.Hour)) // no other poll comes
	tank := board.On(b, tankLitres)
	require.Eventually(t, func() bool { return b.Status().Way == "push" }, hang.Patience, time.Millisecond)
	holds.Store(true)
	other := board.On(b, pantry.Int("other", 7)) // so that another stream is asked for
	<-begun
	require.NoError(t, tank.Set(t.Context(), 1))
	close(goOn)
	ctx, cancel := context.WithTimeout(t.Context(), hang.Patience)
	defer cancel()
	require.NoError(t, b.Ready(ctx))
	assert.Equal(t, []any{1, board.Current}, []any{tank.Get(), other.State().Phase})
	require.NoError(t, board.On(st.join(t), tankLitres).Set(t.Context(), 2))
	until(t, tank, shows(2))
}

// held keeps back the first page.
type held struct {
	http.ResponseWriter
	first func() // called before
	goOn  chan struct{}
}

func (h *held) Write(p []byte) (int, error) {
	if strings.Contains(string(p), "data:") {
		h.first()
		<-h.goOn
	}
	return h.ResponseWriter.Write(p)
}

func (h *held) Unwrap() http.ResponseWriter { return h.ResponseWriter }

// If streams don't work, the client polls. A stream that breaks off at any point is resumed without a gap,
// and half a page is not taken for the whole.
func TestPushInTrouble(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	writer := st.join(t)
	for i := range 5 {
		_, err := writer.Put(t.Context(), fmt.Sprint("n", i), value.Int(0))
		require.NoError(t, err)
	}
	var mode atomic.Value // how streams go wrong
	mode.Store("none")
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, "/events") {
			st.pass(w, r)
			return
		}
		switch mode.Load() {
		case "absent":
			http.NotFound(w, r)
		case "no stream":
			_, _ = io.WriteString(w, "<html>Sign in")
		case "refused":
			w.WriteHeader(http.StatusServiceUnavailable)
		case "cut":
			q := r.URL.Query()
			q.Set("limit", "2") // in pages, and some of them arrive
			r.URL.RawQuery = q.Encode()
			st.pass(&cutting{ResponseWriter: w, left: 900}, r)
		case "nonsense":
			w.Header().Set("Content-Type", "text/event-stream")
			_, _ = io.WriteString(w, "data: {\"board\":\"elm-street\"}\n\n")
		default:
			st.pass(w, r)
		}
	})
	b := st.pushed(t)
	var vars []board.Var[int]
	for i := range 5 {
		vars = append(vars, board.On(b, pantry.Int(fmt.Sprint("n", i), 0)))
	}
	for round, how := range []string{"none", "absent", "no stream", "cut", "refused", "nonsense", "none"} {
		mode.Store(how)
		for i, v := range vars {
			_, err := writer.Put(t.Context(), fmt.Sprint("n", i), value.Int(int64(10*round+i)))
			require.NoError(t, err)
			until(t, v, func(s board.State[int]) bool { return s.Value == 10*round+i })
		}
	}
	pushed := b.Status().Pushed
	require.Eventually(t, func() bool {
		_, err := writer.Put(t.Context(), "n0", value.Int(time.Now().UnixNano()))
		return err == nil && b.Status().Pushed > pushed
	}, hang.Patience, 10*time.Millisecond, "by a stream again")
}

// cutting ends an answer after some bytes.
type cutting struct {
	http.ResponseWriter
	left int
}

func (c *cutting) Write(b []byte) (int, error) {
	if c.left -= len(b); c.left < 0 {
		panic(http.ErrAbortHandler)
	}
	return c.ResponseWriter.Write(b)
}

func (c *cutting) Unwrap() http.ResponseWriter { return c.ResponseWriter }

// The keys of a board, from an app.
func TestKeysOfABoard(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	one, two := st.join(t, board.ClientName("tankwatch")), st.join(t, board.ClientName("display"))
	findings, err := one.DeclareKeys(t.Context(), tankLitres, queue, pantry.RecordsOf[struct{ Crop string }]("plantings"))
	require.NoError(t, err)
	assert.Empty(t, findings)
	findings, err = two.DeclareKeys(t.Context(), pantry.Int("tank/litre", 0), pantry.Float("tank/litres", 0))
	require.NoError(t, err)
	require.Len(t, findings, 1)
	assert.Equal(t, []string{"kind", "tank/litres"}, []string{findings[0].Code, findings[0].Name})
	none, err := two.DeclareKeys(t.Context())
	assert.Equal(t, []any{0, nil}, []any{len(none), err})
	keys, closed, err := two.Keys(t.Context())
	require.NoError(t, err)
	assert.Len(t, keys, 4)
	assert.False(t, closed)
	tank := board.On(two, tankLitres)
	_, err = two.Put(t.Context(), "tank/litres", value.Int(9000))
	assert.ErrorIs(t, err, value.ErrOutOfRange)
	version, err := one.CloseKeys(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 3, version)
	_, err = two.Put(t.Context(), "misspelt", value.Int(1))
	assert.ErrorIs(t, err, board.ErrUndeclared)
	require.NoError(t, tank.Set(t.Context(), 5))
	require.NoError(t, one.WithdrawKey(t.Context(), "tank/litre"))
	assert.ErrorIs(t, one.WithdrawKey(t.Context(), "tank/litre"), pantry.ErrAbsent)
	assert.ErrorIs(t, one.WithdrawKey(t.Context(), "a//b"), pantry.ErrInvalid)
	_, closed, err = two.Keys(t.Context())
	assert.Equal(t, []any{true, nil}, []any{closed, err})

	// An answer that is none of this board is not taken for one.
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		rec := httptest.NewRecorder()
		st.pass(rec, r)
		w.WriteHeader(rec.Code)
		_, _ = io.WriteString(w, strings.Replace(rec.Body.String(), "rowan-street", "elm-street", 1))
	})
	_, _, err = two.Keys(t.Context())
	assert.ErrorContains(t, err, "elm-street")
	_, err = two.History(t.Context(), 5)
	assert.ErrorContains(t, err, "elm-street")
}

// A server without streams is not asked for one at each poll.
func TestPushIsNotTriedAtEachPoll(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	var streams atomic.Int64
	st.answer(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/events") {
			streams.Add(1)
			http.NotFound(w, r)
			return
		}
		st.pass(w, r)
	})
	b := st.pushed(t, board.Poll(5*time.Millisecond, time.Hour))
	tank := board.On(b, tankLitres)
	other := st.join(t)
	for n := range 20 {
		require.NoError(t, board.On(other, tankLitres).Set(t.Context(), n+1))
		until(t, tank, shows(n+1))
	}
	assert.Equal(t, int64(1), streams.Load())
	assert.Equal(t, "wait", b.Status().Way, "and it waits for news instead")
	assert.Positive(t, b.Status().Waited)
}

// A stream whose connection breaks is no outage: the poll that follows finds the server, and nothing is reported.
func TestStreamThatBreaks(t *testing.T) {
	t.Parallel()
	st, met, way := newStore(t), &reported{}, &breaking{}
	b := st.pushed(t, board.HTTPClient(&http.Client{Transport: way}), board.OnProblem(met.add))
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 420))
	require.Eventually(t, func() bool { return way.broken.Load() && b.Status().Way == "push" }, hang.Patience, time.Millisecond)
	until(t, tank, shows(420))
	met.mu.Lock()
	defer met.mu.Unlock()
	assert.Empty(t, met.codes)
}

// A breaking network resets the connection of the first stream after an event.
type breaking struct{ broken atomic.Bool }

func (n *breaking) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err == nil && strings.HasSuffix(r.URL.Path, "/events") && !n.broken.Load() {
		resp.Body = &breakingBody{ReadCloser: resp.Body, broken: &n.broken}
	}
	return resp, err
}

type breakingBody struct {
	io.ReadCloser
	broken *atomic.Bool
	got    []byte
}

func (b *breakingBody) Read(p []byte) (int, error) {
	if bytes.Contains(b.got, []byte("data:")) && bytes.HasSuffix(b.got, []byte("\n\n")) {
		b.broken.Store(true)
		return 0, &net.OpError{Op: "read", Net: "tcp", Err: syscall.ECONNRESET}
	}
	n, err := b.ReadCloser.Read(p)
	b.got = append(b.got, p[:n]...)
	return n, err
}
