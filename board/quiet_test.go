package board_test

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/memnet"
	"github.com/small-pantry/pantry/server"
)

// A meter counts the requests and the bytes of a client, heads included, in both directions.
type meter struct {
	transport       http.RoundTripper
	requests, bytes atomic.Int64
	noStreams       bool
}

func (m *meter) RoundTrip(r *http.Request) (*http.Response, error) {
	m.requests.Add(1)
	if m.noStreams && strings.HasSuffix(r.URL.Path, "/events") {
		return &http.Response{StatusCode: http.StatusNotFound, Header: http.Header{}, Body: http.NoBody, Request: r, ProtoMajor: 1, ProtoMinor: 1}, nil // words: ok
	}
	return m.transport.RoundTrip(r)
}

type meteredConn struct {
	net.Conn
	*meter
}

func (c meteredConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.bytes.Add(int64(n))
	return n, err
}

func (c meteredConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.bytes.Add(int64(n))
	return n, err
}

// A client sends at most 8 requests and 8 KB in a minute in which nothing happens, by each transport.
func TestQuietMinute(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		way       string
		noStreams bool
		opts      []board.Option
	}{
		{way: "push"},
		{way: "wait", noStreams: true},
		{way: "poll", opts: []board.Option{board.WithoutPush()}},
	} {
		t.Run(c.way, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				s, err := server.New(server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
				require.NoError(t, err)
				l := memnet.Listen()
				ctx, stop := context.WithCancel(t.Context())
				served := make(chan error, 1)
				go func() { served <- s.Serve(ctx, l) }()
				m := &meter{noStreams: c.noStreams}
				transport := &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) {
					conn, err := l.Dial()
					return meteredConn{conn, m}, err
				}}
				m.transport = transport
				b, err := board.Join("http://"+l.Addr().String()+"/boards/rowan-street", append(c.opts, board.HTTPClient(&http.Client{Transport: m}))...)
				require.NoError(t, err)
				tank := board.On(b, tankLitres)
				require.NoError(t, b.Ready(t.Context()))
				require.NoError(t, tank.Set(t.Context(), 420))
				time.Sleep(2 * time.Minute) // polls have slowed down by then
				require.Equal(t, c.way, b.Status().Way)
				requests, bytes := m.requests.Load(), m.bytes.Load()
				time.Sleep(time.Minute)
				requests, bytes = m.requests.Load()-requests, m.bytes.Load()-bytes
				t.Logf("%d requests, %d bytes", requests, bytes)
				assert.LessOrEqual(t, requests, int64(8))
				assert.LessOrEqual(t, bytes, int64(8000))
				require.NoError(t, b.Close())
				transport.CloseIdleConnections()
				stop()
				require.NoError(t, <-served)
				require.NoError(t, s.Close())
			})
		})
	}
}
