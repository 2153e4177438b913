package server_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/anishathalye/porcupine"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/test/browser"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/server"
)

// serveHere has the test's own program serve a directory, so that it can be killed.
const serveHere = "SMALL_PANTRY_TEST_SERVE"

// serveShared has it serve with tokens, and with no limits of rates: all callers have one address.
const serveShared = "SMALL_PANTRY_TEST_SERVE_SHARED"

func TestMain(m *testing.M) {
	if data := os.Getenv(serveHere); data != "" {
		serveChild(data)
		return
	}
	if os.Getenv(crowdHere) != "" {
		crowdChild()
		return
	}
	goleak.VerifyTestMain(browserless{m})
}

// browserless stops the shared browser before the check for leaks.
type browserless struct{ m *testing.M }

func (b browserless) Run() int { return browser.Main(b.m) }

func serveChild(data string) {
	o := server.Options{Data: data, Dev: os.Getenv(serveShared) == "", Log: slog.New(slog.DiscardHandler)}
	if !o.Dev {
		o.Limits.ClientRate, o.Limits.AddressRate, o.Limits.BoardRate = 100_000, 100_000, 100_000
	}
	s, err := server.New(o)
	if err != nil {
		panic(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	serving.AddProcessor() // as the commands do
	go serving.LimitMemory(context.Background())
	fmt.Println(l.Addr())
	panic(s.Serve(context.Background(), l))
}

// A lossy network cuts requests before they arrive, and answers after they were given.
type lossy struct {
	http.RoundTripper
	before, after float64
}

var errCut = errors.New("cut")

func (l lossy) RoundTrip(r *http.Request) (*http.Response, error) {
	if rand.Float64() < l.before {
		return nil, errCut
	}
	resp, err := l.RoundTripper.RoundTrip(r)
	if err == nil && rand.Float64() < l.after {
		resp.Body.Close()
		return nil, errCut
	}
	return resp, err
}

// adder adds on a board, under one key, until it is acknowledged.
func adder(ctx context.Context, client *http.Client, address, key, instance string) (sent int, err error) {
	for {
		req, err := http.NewRequestWithContext(ctx, "POST", address, strings.NewReader(`{"op":"add","amount":1}`))
		if err != nil {
			return sent, err
		}
		req.Header.Set("Idempotency-Key", key)
		req.Header.Set("Client-Instance", instance)
		sent++
		resp, err := client.Do(req)
		if errors.Is(err, errCut) {
			continue
		}
		if err != nil {
			return sent, err
		}
		resp.Body.Close()
		if resp.StatusCode >= 300 {
			return sent, fmt.Errorf("status %d", resp.StatusCode)
		}
		return sent, nil
	}
}

// Additions by many clients on a network that loses requests and answers: each
// counts once.
func TestEachAdditionCountsOnce(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/rowan-street/entries/tank/litres"
	clients, each := soak.Rounds(20, 50), soak.Rounds(100, 400)
	var sent atomic.Int64
	var all sync.WaitGroup
	for client := range clients {
		all.Go(func() {
			transport := &http.Transport{}
			defer transport.CloseIdleConnections()
			phone := &http.Client{Transport: lossy{transport, 0.05, 0.15}}
			for i := range each {
				n, err := adder(t.Context(), phone, at, strconv.Itoa(i), fmt.Sprint("phone ", client))
				if !assert.NoError(t, err) {
					return
				}
				sent.Add(int64(n))
			}
		})
	}
	all.Wait()
	assert.Equal(t, json.Number(strconv.Itoa(clients*each)), ask(t, "GET", at, "").json["value"])
	assert.Greater(t, sent.Load(), int64(clients*each*11/10), "many were sent more than once")
}

// A server that is killed while clients write loses nothing that it answered, and a
// request that is sent again under its key counts once.
func TestKilledUnderLoad(t *testing.T) {
	t.Parallel()
	rounds := soak.Rounds(6, 200)
	data := t.TempDir()
	var answered, key int64
	for round := range rounds {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), serveHere+"="+data)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		address, err := bufio.NewReader(out).ReadString('\n')
		require.NoError(t, err)
		at := "http://" + strings.TrimSpace(address) + "/v1/boards/rowan-street/entries/n"

		// What is there by now is all that was answered, and what was sent once more.
		resp, err := http.Get(at)
		require.NoError(t, err)
		var e struct{ Value int64 }
		if round > 0 {
			require.NoError(t, json.NewDecoder(resp.Body).Decode(&e))
		}
		resp.Body.Close()
		require.Equal(t, answered, e.Value, "round %d", round)

		var all sync.WaitGroup
		var open sync.Map // keys of requests without an answer
		killed := make(chan struct{})
		transport := &http.Transport{MaxIdleConnsPerHost: 8}
		client := &http.Client{Transport: transport}
		var count, next atomic.Int64
		next.Store(key)
		for range 8 {
			all.Go(func() {
				for {
					select {
					case <-killed:
						return
					default:
					}
					k := strconv.FormatInt(next.Add(1), 10)
					open.Store(k, true)
					if _, err := adder(context.Background(), client, at, k, "phone"); err != nil {
						return
					}
					open.Delete(k)
					count.Add(1)
				}
			})
		}
		time.Sleep(time.Duration(20+rand.N(100)) * time.Millisecond) // the kill is to come at any moment of a write
		require.NoError(t, cmd.Process.Kill())
		close(killed)
		all.Wait()
		_ = cmd.Wait()
		transport.CloseIdleConnections()
		key = next.Load()
		answered += count.Load()

		// Those without an answer are sent again, to another server on the same data.
		base, stop := start(t, data)
		open.Range(func(k, _ any) bool {
			_, err := adder(t.Context(), http.DefaultClient, base+"/v1/boards/rowan-street/entries/n", k.(string), "phone")
			require.NoError(t, err)
			answered++
			return true
		})
		stop()
	}
	http.DefaultClient.CloseIdleConnections()
	assert.Positive(t, answered)
}

// Pages that are taken while others write, and then what changed since the first, add
// up to what is there.
func TestPagesWhileWriting(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	ask(t, "PUT", at+"/entries/first", "1")
	name := func(r *rand.Rand) string { return fmt.Sprint("n", r.IntN(300)) }
	done := make(chan struct{})
	var all sync.WaitGroup
	for writer := range 3 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(writer), 3))
			for {
				select {
				case <-done:
					return
				default:
				}
				if r.IntN(4) == 0 {
					ask(t, "DELETE", at+"/entries/"+name(r), "")
				} else {
					ask(t, "PUT", at+"/entries/"+name(r), strconv.Itoa(r.IntN(1000)))
				}
			}
		})
	}
	for round := range 20 {
		has := map[string]string{}
		take := func(a answer) {
			for _, e := range a.json["entries"].([]any) {
				e := e.(map[string]any)
				has[e["name"].(string)] = fmt.Sprint(e["value"], " ", e["version"])
			}
			for _, g := range a.json["gone"].([]any) {
				delete(has, g.(map[string]any)["name"].(string))
			}
		}
		first := ask(t, "GET", at+"/entries?limit=20", "")
		take(first)
		for page := first; page.json["next"] != nil; {
			page = ask(t, "GET", fmt.Sprint(at, "/entries?limit=20&after=", page.json["next"]), "")
			take(page)
		}
		if round == 19 {
			close(done)
			all.Wait()
		}
		since := ask(t, "GET", fmt.Sprint(at, "/entries?limit=10000&since=", first.json["mark"]), "")
		require.Equal(t, false, since.json["whole"])
		take(since)
		then := ask(t, "GET", fmt.Sprint(at, "/entries?limit=10000&at=", since.json["version"]), "")
		want := map[string]string{}
		for _, e := range then.json["entries"].([]any) {
			e := e.(map[string]any)
			want[e["name"].(string)] = fmt.Sprint(e["value"], " ", e["version"])
		}
		if then.code() != "too-old" {
			require.Equal(t, want, has)
		}
	}
}

// Many clients call for one entry at once, and each call takes effect at one moment between its beginning
// and its end (linearizability).
func TestBoardIsLinearizable(t *testing.T) {
	t.Parallel()
	type call struct {
		do string
		n  int
	}
	after := func(stored int, c call) (now int) {
		switch c.do {
		case "put":
			return c.n
		case "add":
			return stored + c.n
		case "raise":
			return max(stored, c.n)
		}
		return stored
	}
	model := porcupine.Model{
		Init: func() any { return 0 },
		Step: func(stored, input, output any) (bool, any) {
			now := after(stored.(int), input.(call))
			return now == output.(int), now
		},
	}
	s, err := server.New(server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	hs := httptest.NewServer(s)
	at := hs.URL + "/v1/boards/b/entries/n"
	ask(t, "PUT", at, "0")
	began := time.Now()
	var mu sync.Mutex
	var history []porcupine.Operation
	var all sync.WaitGroup
	for client := range 6 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(client), 7))
			for range 60 {
				c := call{[]string{"get", "list", "put", "add", "raise"}[r.IntN(5)], r.IntN(50)}
				from := time.Since(began)
				var a answer
				switch c.do {
				case "get":
					a = ask(t, "GET", at, "")
				case "list":
					a = ask(t, "GET", strings.TrimSuffix(at, "/n"), "")
					a.json = a.json["entries"].([]any)[0].(map[string]any)
				case "put":
					a = ask(t, "PUT", at, strconv.Itoa(c.n))
				case "add":
					a = ask(t, "POST", at, fmt.Sprintf(`{"op":"add","amount":%d}`, c.n))
				case "raise":
					a = ask(t, "POST", at, fmt.Sprintf(`{"op":"raise","to":%d}`, c.n))
				}
				told, err := a.json["value"].(json.Number).Int64()
				assert.NoError(t, err)
				op := porcupine.Operation{ClientId: client, Input: c, Output: int(told), Call: int64(from), Return: int64(time.Since(began))}
				mu.Lock()
				history = append(history, op)
				mu.Unlock()
			}
		})
	}
	all.Wait()
	http.DefaultClient.CloseIdleConnections()
	hs.Close()
	require.NoError(t, s.Close())
	assert.Equal(t, porcupine.Ok, porcupine.CheckOperationsTimeout(model, history, time.Minute))
	stale := porcupine.Operation{ClientId: 9, Input: call{"get", 0}, Output: -1, Call: int64(time.Hour), Return: int64(2 * time.Hour)}
	assert.Equal(t, porcupine.Illegal, porcupine.CheckOperationsTimeout(model, append(history, stale), time.Minute), "the check finds what can't be")
}
