package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/memnet"
	"github.com/small-pantry/pantry/server"
)

// start serves a data directory until the test ends, or until stop is called.
func start(t testing.TB, data string) (base string, stop func()) {
	t.Helper()
	return startWith(t, server.Options{Data: data, Dev: true, Log: slog.New(slog.DiscardHandler)})
}

func startWith(t testing.TB, o server.Options) (base string, stop func()) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return serve(t, o, l)
}

// serve serves on a listener until the test ends, or until stop is called.
func serve(t testing.TB, o server.Options, l net.Listener) (base string, stop func()) {
	t.Helper()
	s, err := server.New(o)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx, l) }()
	stop = sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-served)
		assert.NoError(t, s.Close())
		http.DefaultClient.CloseIdleConnections()
	})
	t.Cleanup(stop)
	return "http://" + l.Addr().String(), stop
}

// networks holds the listeners in memory of tests in a synctest bubble, by host and port.
var networks sync.Map

// inMemory serves on a network in memory. A test in a synctest bubble uses it.
func inMemory(t testing.TB, o server.Options) (base string, stop func()) {
	t.Helper()
	l := memnet.Listen()
	client := l.Client()
	networks.Store(l.Addr().String(), network{l, client})
	base, end := serve(t, o, l)
	stop = sync.OnceFunc(func() {
		client.CloseIdleConnections()
		end()
	})
	t.Cleanup(stop)
	return base, stop
}

type network struct {
	*memnet.Listener
	client *http.Client
}

// client returns the client for requests to a host.
func client(host string) *http.Client {
	if n, ok := networks.Load(host); ok {
		return n.(network).client
	}
	return http.DefaultClient
}

// dial connects to the server at base.
func dial(t testing.TB, base string) net.Conn {
	t.Helper()
	host := strings.TrimPrefix(base, "http://")
	connect := func() (net.Conn, error) { return net.Dial("tcp", host) }
	if n, ok := networks.Load(host); ok {
		connect = n.(network).Dial
	}
	conn, err := connect()
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return conn
}

// An answer is what came back, with its JSON read where it is some.
type answer struct {
	status int
	header http.Header
	body   string
	json   map[string]any
}

func (a answer) code() any { return a.json["code"] }

// ask sends a request; headers are pairs of name and value.
func ask(t testing.TB, method, url, body string, headers ...string) answer {
	t.Helper()
	req, err := http.NewRequestWithContext(context.Background(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		if headers[i] == "Host" {
			req.Host = headers[i+1]
		}
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := client(req.URL.Host).Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	a := answer{status: resp.StatusCode, header: resp.Header, body: string(raw)}
	if strings.Contains(resp.Header.Get("Content-Type"), "json") {
		dec := json.NewDecoder(strings.NewReader(a.body))
		dec.UseNumber()
		if method != http.MethodHead {
			require.NoError(t, dec.Decode(&a.json), a.body)
		}
	}
	openAPI().check(t, req, a)
	return a
}

const typeJSON = "application/json"

func TestDevelopmentModeIsForThisMachineOnly(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	port := base[strings.LastIndex(base, ":"):]
	at := base + "/v1/boards/b/entries"
	for _, headers := range [][]string{
		{"Host", "garden.example" + port}, {"Host", "localhost:1"}, {"Forwarded", "for=1.2.3.4"}, {"X-Forwarded-For", "1.2.3.4"},
		{"Origin", "http://garden.example"}, {"Origin", "null"}, {"Origin", "http://localhost.garden.example"}, {"Origin", "http://localhost@garden.example"},
		{"Origin", "file://localhost"}, {"Sec-Fetch-Site", "cross-site"},
	} {
		a := ask(t, "GET", at, "", headers...)
		assert.Equal(t, "forbidden", a.code(), "%v", headers)
		assert.Empty(t, a.header.Get("Access-Control-Allow-Origin"))
	}
	for _, headers := range [][]string{
		{"Host", "localhost" + port}, {"Host", "10.0.2.2" + port}, {"Origin", base}, {"Origin", "http://localhost:3000"}, {"Origin", "https://[::1]:3000"},
		{"Sec-Fetch-Site", "same-origin"}, {"Sec-Fetch-Site", "cross-site", "Origin", "http://127.0.0.1:3000"},
	} {
		a := ask(t, "GET", at, "", headers...)
		assert.Equal(t, 200, a.status, "%v", headers)
		if i := slices.Index(headers, "Origin"); i >= 0 {
			assert.Equal(t, headers[i+1], a.header.Get("Access-Control-Allow-Origin"))
			assert.Equal(t, "ETag, Retry-After, Repeated", a.header.Get("Access-Control-Expose-Headers"))
		}
	}
	a := ask(t, "OPTIONS", at+"/x", "", "Origin", "http://localhost:3000", "Access-Control-Request-Method", "PUT")
	assert.Equal(t, 204, a.status)
	assert.Contains(t, a.header.Get("Access-Control-Allow-Methods"), "PUT")
	assert.Contains(t, a.header.Get("Access-Control-Allow-Headers"), "Idempotency-Key")
	assert.Equal(t, "forbidden", ask(t, "OPTIONS", at, "", "Origin", "http://garden.example", "Access-Control-Request-Method", "PUT").code())
	assert.Equal(t, "method", ask(t, "OPTIONS", at, "").code())
	a = ask(t, "GET", at+"/none", "", "Origin", "http://localhost:3000")
	assert.Equal(t, []any{"absent", "http://localhost:3000"}, []any{a.code(), a.header.Get("Access-Control-Allow-Origin")}, "on errors too")
	_, err := server.New(server.Options{Data: t.TempDir(), Trouble: server.Trouble{Slow: time.Second}})
	assert.ErrorIs(t, err, server.ErrDevOnly)
	s, err := server.New(server.Options{Data: t.TempDir(), Dev: true})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "0.0.0.0:0")
	require.NoError(t, err)
	assert.ErrorIs(t, s.Serve(t.Context(), l), server.ErrNotLoopback)
	require.NoError(t, s.Close())
}

func TestOtherPaths(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, stop := start(t, data)
	assert.Equal(t, "ok", ask(t, "GET", base+"/healthz", "").json["status"])
	assert.Equal(t, "no-route", ask(t, "GET", base+"/v1/nothing", "").code())
	assert.Equal(t, "method", ask(t, "PATCH", base+"/v1/boards/b/entries/x", "").code())
	a := ask(t, "POST", base+"/v1/boards/b/entries", "")
	assert.Equal(t, "method", a.code())
	assert.Contains(t, a.header.Get("Allow"), "GET")
	assert.Equal(t, "invalid", ask(t, "PUT", base+"/v1/boards/Garden/entries/x", "1").code())
	ask(t, "PUT", base+"/v1/boards/b/entries/x", "1")
	boards := ask(t, "GET", base+"/v1/boards", "").json["boards"].([]any)
	require.Len(t, boards, 1)
	assert.Equal(t, []any{"b", json.Number("1")}, []any{boards[0].(map[string]any)["board"], boards[0].(map[string]any)["version"]})
	_, err := server.New(server.Options{Data: data, Dev: true})
	assert.ErrorIs(t, err, server.ErrInUse)
	mark := ask(t, "GET", base+"/v1/boards/b/entries", "").json["mark"].(string)
	stop()
	base, _ = start(t, data)
	a = ask(t, "GET", base+"/v1/boards/b/entries?since="+mark, "")
	assert.Equal(t, []any{false, json.Number("1")}, []any{a.json["whole"], a.json["version"]}, "a restart costs clients nothing")
}

// A client's name is stored with its changes, so it must be short and printable.
func TestClientName(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/rowan-street"
	long := strings.Repeat("a", 101)
	for _, header := range []string{"Client-Name", "Client-Instance"} {
		for _, a := range []answer{
			ask(t, "PUT", at+"/entries/tank", "1", "Content-Type", typeJSON, header, long),
			ask(t, "POST", at+"/entries/tank", `{"op":"add","amount":1}`, "Content-Type", typeJSON, header, long),
			ask(t, "DELETE", at+"/entries/tank", "", header, "\xff"),
			ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"tank","value":1}]}`, "Content-Type", typeJSON, header, long),
		} {
			assert.Equal(t, http.StatusBadRequest, a.status, a.body)
			assert.Equal(t, "invalid", a.code())
			assert.Regexp(t, "can't be the name of an app|has 101 bytes, and the limit is 64", a.body)
		}
	}
	assert.Equal(t, http.StatusNotFound, ask(t, "GET", at+"/entries/tank", "").status, "nothing was stored")
	a := ask(t, "PUT", at+"/entries/tank", "1", "Content-Type", typeJSON, "Client-Name", "Wächter der Zisterne")
	assert.Equal(t, http.StatusCreated, a.status, a.body)
	assert.Equal(t, "Wächter der Zisterne", a.json["by"])
}

func TestLogTellsNoSecrets(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	var mu sync.Mutex
	logger := slog.New(slog.NewJSONHandler(lockedWriter{&mu, &out}, &slog.HandlerOptions{Level: slog.LevelDebug}))
	s, err := server.New(server.Options{Data: t.TempDir(), Dev: true, Log: logger})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx, l) }()
	base := "http://" + l.Addr().String()
	ask(t, "PUT", base+"/v1/boards/b/entries/hidden-name", "hidden-value", "Authorization", "Bearer hidden-token")
	ask(t, "GET", base+"/v1/boards/b/entries?prefix=hidden-query", "")
	a := ask(t, "GET", base+"/v1/boards/b/entries", "", "Origin", "http://hidden.example")
	ask(t, "PUT", base+"/v1/boards/b/entries/x", strings.Repeat("x", 2<<20))
	cancel()
	require.NoError(t, <-served)
	require.NoError(t, s.Close())
	http.DefaultClient.CloseIdleConnections()
	assert.NotContains(t, out.String(), "hidden")
	levels := map[string]string{}
	for line := range strings.Lines(out.String()) {
		var entry struct {
			Level, Method, Board, Request string
			Status                        int
		}
		require.NoError(t, json.Unmarshal([]byte(line), &entry))
		levels[fmt.Sprint(entry.Status)] = entry.Level
		if entry.Status == 403 {
			assert.Equal(t, a.json["request"], entry.Request, "the answer and the log have one request id")
		}
	}
	assert.Equal(t, map[string]string{"201": "DEBUG", "200": "DEBUG", "403": "INFO", "413": "INFO"}, levels)
}

type lockedWriter struct {
	mu *sync.Mutex
	w  io.Writer
}

func (l lockedWriter) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(b)
}
