package board

import (
	"context"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/rules"
)

// newConnection returns a connection to a handler.
func newConnection(t *testing.T, h http.HandlerFunc) *connection {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	l, err := parseLink(s.URL + "/boards/rowan-street")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	t.Cleanup(cancel)
	return &connection{link: l, http: s.Client(), instance: "phone", timeout: 5 * time.Second, patience: 3 * time.Second, ctx: ctx}
}

// A call is repeated only if it cannot count twice.
func TestConnectionRepeats(t *testing.T) {
	t.Parallel()
	var calls atomic.Int32
	var since sync.Map // attempt to its Idempotency-Since
	c := newConnection(t, func(w http.ResponseWriter, r *http.Request) {
		n := calls.Add(1)
		since.Store(n, r.Header.Get("Idempotency-Since"))
		if n == 1 {
			panic(http.ErrAbortHandler) // the answer is lost
		}
		w.WriteHeader(http.StatusOK)
	})
	for _, row := range []struct {
		what     string
		rq       request
		attempts int32
	}{
		{"a read", request{method: http.MethodGet}, 2},
		{"a write with a key", request{method: http.MethodPost, header: http.Header{"Idempotency-Key": {"k"}}, since: "7.aa", body: []byte("{}")}, 2},
		{"a write without a key", request{method: http.MethodPost, header: http.Header{}, body: []byte("{}")}, 1},
		{"a read that is followed by others", request{method: http.MethodGet, once: true}, 1},
	} {
		calls.Store(0)
		_, err := c.send(t.Context(), row.rq)
		assert.Equal(t, row.attempts, calls.Load(), row.what)
		assert.Equal(t, row.attempts == 1, err != nil, row.what)
		if row.rq.since != "" {
			first, _ := since.Load(int32(1))
			second, _ := since.Load(int32(2))
			assert.Equal(t, []any{"", "7.aa"}, []any{first, second})
		}
	}
}

// Retry-After holds back all calls of a connection. A call that can't wait so long reports it at once.
func TestConnectionHeedsRetryAfter(t *testing.T) {
	t.Parallel()
	var calls atomic.Int32
	c := newConnection(t, func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		w.Header().Set("Content-Type", "application/problem+json")
		w.Header().Set("Retry-After", "30")
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = w.Write([]byte(`{"status":503,"code":"unavailable","detail":"busy"}`))
	})
	_, err := c.send(t.Context(), request{method: http.MethodGet})
	assert.Equal(t, "unavailable", codeOf(err))
	_, err = c.send(t.Context(), request{method: http.MethodGet})
	assert.ErrorContains(t, err, "wants to be asked again in ")
	assert.EqualValues(t, 1, calls.Load(), "the second call was not sent")
	assert.InDelta(t, 30, c.delayed().Seconds(), 5)
}

// A shorter Retry-After does not replace a longer one, and none is over 5 minutes.
func TestConnectionDelays(t *testing.T) {
	t.Parallel()
	c := &connection{}
	c.delay(30 * time.Second)
	c.delay(time.Second)
	assert.InDelta(t, 30, c.delayed().Seconds(), 5)
	c.delay(time.Hour)
	assert.InDelta(t, 300, c.delayed().Seconds(), 5)
}

// The end of the connection's context ends its calls.
func TestConnectionEnds(t *testing.T) {
	t.Parallel()
	c := newConnection(t, func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	ctx, cancel := context.WithCancel(t.Context())
	c.ctx = ctx
	time.AfterFunc(20*time.Millisecond, cancel)
	_, err := c.send(t.Context(), request{method: http.MethodGet})
	assert.ErrorIs(t, err, pantry.ErrClosed)
	_, err = c.send(t.Context(), request{method: http.MethodGet})
	assert.ErrorIs(t, err, pantry.ErrClosed, "and starts none")
}

// OnProblem is called with one problem after the other, in order, and may report another one.
func TestReporter(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		var names []string
		got := func() []string {
			synctest.Wait()
			mu.Lock()
			defer mu.Unlock()
			return slices.Clone(names)
		}
		r := &reporter{place: "rowan-street"}
		r.onProblem = func(p pantry.Problem) {
			mu.Lock()
			names = append(names, p.Name)
			mu.Unlock()
			if p.Name == "a" {
				r.problem("c", pantry.ErrInvalid)
			}
			time.Sleep(time.Second)
		}
		r.problem("a", pantry.ErrInvalid)
		r.problem("b", pantry.ErrInvalid)
		assert.Equal(t, []string{"a"}, got(), "the second one waits")
		time.Sleep(3 * time.Second)
		assert.Equal(t, []string{"a", "b", "c"}, got())
		found := []rules.Near{{Name: "tank/litre", Near: "tank/litres"}}
		r.nearNames(found)
		r.nearNames(found)
		time.Sleep(2 * time.Second)
		assert.Equal(t, []string{"a", "b", "c", "tank/litre"}, got(), "a pair is reported once")
	})
}
