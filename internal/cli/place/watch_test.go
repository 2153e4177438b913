package place_test

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

// A server that goes away and comes back is reported once each, and unchanged values are not printed again.
func TestWatchOverAnOutage(t *testing.T) {
	t.Parallel()
	s, err := server.New(server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	var down atomic.Bool
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if down.Load() {
			panic(http.ErrAbortHandler)
		}
		s.ServeHTTP(w, r)
	}))
	defer web.Close()
	said := make(chan string, 100)
	p, err := place.Open(web.URL+"/boards/rowan-street", place.Way{Every: 5 * time.Millisecond, Tell: func(string, pantry.Problem) {}, Say: func(s string) { said <- s }})
	require.NoError(t, err)
	defer p.Close()
	put := func(n int64) {
		_, err := p.Commit(t.Context(), []entry.Edit{{Name: "tank/litres", Op: value.Op{Verb: value.Put, Operand: value.Int(n)}}})
		require.NoError(t, err)
	}
	put(420)
	ctx, cancel := context.WithCancel(t.Context())
	values := make(chan string, 100)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for e, err := range p.Watch(ctx, []string{"tank/litres"}) {
			if assert.NoError(t, err) {
				values <- e.Value.String()
			}
		}
	}()
	next := func(from <-chan string) string {
		select {
		case s := <-from:
			return s
		case <-time.After(hang.Patience):
			require.FailNow(t, "nothing came")
			return ""
		}
	}
	assert.Equal(t, "420", next(values))
	for range 2 {
		down.Store(true)
		assert.Contains(t, next(said), "can't be reached")
		down.Store(false)
		assert.Equal(t, "the server answers again", next(said))
	}
	put(410)
	assert.Equal(t, "410", next(values), "and nothing in between")
	cancel()
	<-done
	assert.Empty(t, said)
	assert.Empty(t, values)
}
