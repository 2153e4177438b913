package serving

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
)

// run runs a server with flags until the test ends, and returns what it prints before the QR code.
func run(t *testing.T, args ...string) (said []string, stop func()) {
	t.Helper()
	var f Flags
	set := pflag.NewFlagSet("serve", pflag.ContinueOnError)
	f.Add(set)
	require.NoError(t, set.Parse(append([]string{"--listen", "127.0.0.1:0", "--board", "rowan-street"}, args...)))
	require.NoError(t, f.Check())
	l, public, err := f.Open()
	require.NoError(t, err)
	limits, err := f.Limits()
	require.NoError(t, err)
	s, err := server.New(server.Options{Data: t.TempDir(), Public: public, Limits: limits, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	r, w := io.Pipe()
	served := make(chan error, 1)
	go func() {
		served <- f.Run(ctx, s, l, Words{Out: w, Where: "boards are stored in DATA", Public: public})
	}()
	stop = func() {
		cancel()
		assert.NoError(t, <-served)
		assert.NoError(t, s.Close())
	}
	lines := bufio.NewScanner(r)
	for lines.Scan() && !strings.HasPrefix(lines.Text(), "██") {
		said = append(said, lines.Text())
	}
	go func() { _, _ = io.Copy(io.Discard, r) }()
	return said, stop
}

// A server with a certificate speaks TLS and HTTP/2, takes a renewed certificate while it
// runs, and ends its streams when it stops.
func TestTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	pool := x509.NewCertPool()
	pool.AddCert(writePair(t, filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem"), 1))
	said, stop := run(t, "--cert", filepath.Join(dir, "cert.pem"), "--key", filepath.Join(dir, "key.pem"), "--limit", "names=7", "--limit", "bytes=1MiB")
	require.Regexp(t, `^serving on https://127\.0\.0\.1:\d+$`, said[0])
	base := strings.TrimPrefix(said[0], "serving on ")
	assert.Equal(t, "encrypted: others on the network can't read what is sent", said[3])
	link := said[len(said)-2]
	require.True(t, strings.HasPrefix(link, base+"/boards/rowan-street#"), link)
	_, token, _ := strings.Cut(link, "#")
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true}}
	get := func(path string) *http.Response {
		req, err := http.NewRequestWithContext(t.Context(), "GET", base+"/v1/boards/rowan-street"+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := client.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	resp := get("")
	facts, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Equal(t, 2, resp.ProtoMajor)
	assert.Contains(t, string(facts), `"limits":{"names":7,"bytes":1048576,`)
	old := &tls.Config{RootCAs: pool, MaxVersion: tls.VersionTLS11}
	_, err = tls.Dial("tcp", strings.TrimPrefix(base, "https://"), old)
	assert.Error(t, err, "nothing older than TLS 1.2")

	stream := get("/events")
	first, err := bufio.NewReader(stream.Body).ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "retry: 2000\n", first)
	stopped := make(chan struct{})
	go func() {
		stop()
		close(stopped)
	}()
	_, _ = io.Copy(io.Discard, stream.Body)
	select {
	case <-stopped:
	case <-time.After(4 * time.Second):
		t.Error("a stream holds the stop up")
	}
}

// A server uses one processor more than there are, however often one runs, unless the environment says how many.
func TestAddProcessor(t *testing.T) {
	defer runtime.GOMAXPROCS(processors)
	for env, want := range map[string]int{"": processors + 1, "7": processors} {
		t.Setenv("GOMAXPROCS", env)
		runtime.GOMAXPROCS(processors)
		for range 2 {
			_, stop := run(t)
			stop()
		}
		assert.Equal(t, want, runtime.GOMAXPROCS(0), "GOMAXPROCS=%s", env)
	}
}

// Garbage has a bound, however large the data is.
func TestLimitMemory(t *testing.T) {
	limit := func() int64 { return debug.SetMemoryLimit(-1) }
	before := limit()
	t.Setenv("GOMEMLIMIT", "1GiB")
	_, stop := run(t)
	assert.Equal(t, before, limit(), "the environment has set another")
	stop()
	require.NoError(t, os.Unsetenv("GOMEMLIMIT"))
	_, stop = run(t)
	defer func() {
		stop()
		require.Eventually(t, func() bool { return limit() == math.MaxInt64 }, hang.Patience, time.Millisecond, "it does not outlive the server")
	}()
	require.Eventually(t, func() bool { return limit() < 1<<30 }, hang.Patience, time.Millisecond)
	small := limit()
	data := make([]byte, 100<<20)
	runtime.GC()
	require.Eventually(t, func() bool { return limit() > small+80<<20 }, hang.Patience, time.Millisecond, "more data")
	runtime.KeepAlive(data)
	data = nil
	runtime.GC()
	require.Eventually(t, func() bool { return limit() < small+40<<20 }, hang.Patience, time.Millisecond, "less again")
}

// What is wrong with the flags is said before anything is done.
func TestFlags(t *testing.T) {
	t.Parallel()
	for args, fault := range map[string]string{
		"--cert c": "--cert and --key must be used together", "--key k": "--cert and --key must be used together", "--board Rowan": "--board", "--public pantry.example": "must be like https://HOST",
		"--public https://h/x": "without a path", "--public https://h/#x": "without a path", "--public ftp://h": "must be like", "--limit names=x": "not a number", "--limit x=1": "there is no limit",
	} {
		var f Flags
		set := pflag.NewFlagSet("serve", pflag.ContinueOnError)
		f.Add(set)
		require.NoError(t, set.Parse(strings.Fields(args)))
		err := f.Check()
		assert.ErrorIs(t, err, ErrUsage, args)
		assert.ErrorContains(t, err, fault)
	}
	said, stop := run(t, "--public", "https://pantry.example/")
	stop()
	assert.Contains(t, said[3], "except between https://pantry.example and this server")
	assert.True(t, strings.HasPrefix(said[len(said)-2], "https://pantry.example/boards/rowan-street#"))
	said, stop = run(t, "--listen", "0.0.0.0:0")
	stop()
	assert.NotContains(t, said[len(said)-2], "0.0.0.0", "a link that others can use")
	for address, says := range map[string]string{
		"https://h": "encrypted: others on the network can't read", "http://127.0.0.1:1/boards/b": "does not leave this machine", "http://localhost": "does not leave this machine",
		"http://192.168.1.20:8437": "not encrypted: others on the network can read", "http://[::1]:1": "does not leave",
	} {
		assert.Contains(t, Encrypted(address), says, address)
	}
}
