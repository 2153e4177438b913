package etcd

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/engine"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
)

// A site is one server among several on a store.
type site struct {
	t     testing.TB
	url   string
	admin string
	store *Store
	peers *Peers
	stop  func()
}

const adminToken = "admin.0123456789abcdefghij"

// serve returns servers on a store. With homes they know of each other.
func serve(t testing.TB, n int, homes bool, o Options) (all []*site) {
	t.Helper()
	if o.Prefix == "" {
		o.Prefix = newPrefix()
	}
	if o.Endpoints == nil {
		o.Endpoints = endpoints
	}
	for range n {
		s := &site{t: t, admin: adminToken}
		data := t.TempDir()
		require.NoError(t, os.WriteFile(data+"/admin-token", []byte(adminToken+"\n"), 0o600))
		limits := server.Limits{ClientRate: 100_000, AddressRate: 100_000, BoardRate: 100_000}
		h, err := engine.Serve[*server.Server](server.Options{Data: data, Limits: limits, Log: quietLog}, func(boards int, problem func(string, error)) (store.Store, error) {
			o := o
			if o.Boards = boards; o.Problem == nil {
				o.Problem = problem
			}
			var err error
			s.store, err = Open(t.Context(), o)
			return s.store, err
		})
		require.NoError(t, err)
		s.listenOn(h, func() error {
			if homes {
				s.peers.Leave()
			}
			return h.Close()
		})
		if homes {
			s.peers = s.store.Join(PeerOptions{Address: s.url, Secret: adminToken})
		}
		all = append(all, s)
	}
	if homes {
		for _, s := range all {
			require.Eventually(t, func() bool { return len(s.peers.Servers()) == n }, hang.Patience, time.Millisecond)
		}
	}
	return all
}

// listenOn has the site answer with h, until it stops and is closed.
func (s *site) listenOn(h http.Handler, closed func() error) {
	hs := httptest.NewServer(h)
	s.url = hs.URL
	s.stop = sync.OnceFunc(func() {
		hs.CloseClientConnections()
		assert.NoError(s.t, closed())
		hs.Close()
	})
	s.t.Cleanup(s.stop)
}

var quietLog = slog.New(slog.DiscardHandler)

type answer struct {
	status int
	header http.Header
	body   string
	json   map[string]any
}

func (s *site) ask(token, method, path, body string, headers ...string) (answer, error) {
	rq, err := http.NewRequestWithContext(context.WithoutCancel(s.t.Context()), method, s.url+path, strings.NewReader(body))
	if err != nil {
		return answer{}, err
	}
	rq.Header.Set("Authorization", "Bearer "+token)
	if body != "" {
		rq.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		rq.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultClient.Do(rq)
	if err != nil {
		return answer{}, err
	}
	raw, err := io.ReadAll(resp.Body)
	a := answer{status: resp.StatusCode, header: resp.Header, body: string(raw)}
	_ = json.Unmarshal(raw, &a.json) // what is no object stays text
	return a, errors.Join(err, resp.Body.Close())
}

func (s *site) as(token, method, path, body string, headers ...string) answer {
	s.t.Helper()
	a, err := s.ask(token, method, path, body, headers...)
	require.NoError(s.t, err)
	return a
}

// do is as by the admin, and must have a status.
func (s *site) do(status int, method, path, body string, headers ...string) answer {
	s.t.Helper()
	a := s.as(s.admin, method, path, body, headers...)
	require.Equal(s.t, status, a.status, "%s %s: %s", method, path, a.body)
	return a
}

const (
	street = "/v1/boards/rowan-street"
	tank   = street + "/entries/tank/litres"
)

func newBoard(s *site) { s.do(201, "POST", "/v1/boards", `{"board":"rowan-street"}`) }

// What one server has answered, the other knows at once; what comes in by itself soon.
func TestTwoServers(t *testing.T) {
	t.Parallel()
	both := serve(t, 2, false, Options{})
	a, b := both[0], both[1]
	newBoard(a)
	for i := range 50 {
		here, there := both[i%2], both[(i+1)%2]
		here.do([]int{201, 200}[min(i, 1)], "PUT", tank, fmt.Sprint(i))
		assert.Equal(t, float64(i), there.do(200, "GET", tank, "").json["value"])
		assert.Contains(t, there.do(200, "GET", street+"/entries", "").body, fmt.Sprintf(`"value":%d,`, i))
	}
	t.Run("marks", func(t *testing.T) {
		was := a.do(200, "GET", street+"/entries", "").json["mark"].(string)
		now := a.do(200, "POST", street+"/commit", `{"ops":[{"op":"put","name":"gate/open","value":true}]}`).json["mark"].(string)
		delta := b.do(200, "GET", street+"/entries?since="+was+"&wait=5", "").json
		assert.Equal(t, []any{now, was, false}, []any{delta["mark"], delta["since"], delta["whole"]})
		assert.Len(t, delta["entries"], 1)
		a.do(200, "PUT", street+"/entries/gate/open", "false")
		beyond := a.do(200, "GET", street+"/entries", "").json["mark"].(string)
		same := b.do(200, "GET", street+"/entries?since="+beyond, "").json
		assert.Equal(t, []any{beyond, false}, []any{same["mark"], same["whole"]}, "a mark above what it knows is judged after a fence")
	})
	t.Run("streams", func(t *testing.T) {
		events := b.listen(t, b.admin)
		a.do(200, "PUT", tank, "1234")
		events.until(`"value":1234`)
	})
	t.Run("tokens", func(t *testing.T) {
		made := a.do(201, "POST", street+"/tokens", `{"may":"read","label":"shed"}`).json
		token := made["token"].(string)
		assert.Equal(t, 200, b.as(token, "GET", tank, "").status, "at once")
		assert.Contains(t, b.do(200, "GET", street+"/tokens", "").body, made["id"].(string))
		events := b.listen(t, token)
		a.do(204, "DELETE", street+"/tokens/"+made["id"].(string), "")
		events.ended(time.Second)
		assert.Equal(t, 401, b.as(token, "GET", tank, "").status)
	})
	t.Run("receipts", func(t *testing.T) {
		was := a.do(200, "GET", tank, "").json["value"].(float64)
		for i, s := range []*site{a, b, b, a} {
			one := s.do(200, "POST", tank, `{"op":"add","amount":-10}`, "Idempotency-Key", "k", "Client-Instance", "0123456789abcdef0123456789abcdef")
			assert.Equal(t, []any{was - 10, i > 0}, []any{one.json["value"], one.header.Get("Repeated") == "true"})
		}
	})
	t.Run("refused by what another wrote", func(t *testing.T) {
		a.do(200, "POST", street+"/commit", `{"ops":[{"op":"append","name":"hose/queue","item":"C4"}]}`)
		took := b.do(200, "POST", street+"/entries/hose/queue", `{"op":"take","at":0}`)
		assert.Equal(t, "C4", took.json["taken"])
		assert.Equal(t, 404, a.as(a.admin, "POST", street+"/entries/hose/queue", `{"op":"take","at":0}`).status)
		tag := b.do(200, "GET", tank, "").header.Get("ETag")
		a.do(200, "PUT", tank, "7", "If-Match", tag)
		assert.Equal(t, 412, b.as(b.admin, "PUT", tank, "8", "If-Match", tag).status)
	})
	t.Run("keys", func(t *testing.T) {
		a.do(200, "POST", street+"/keys", `{"keys":[{"name":"units","kind":"text","default":"metric"}]}`)
		assert.Contains(t, b.do(200, "GET", street+"/keys", "").body, `"units"`)
		assert.Equal(t, 409, b.as(b.admin, "PUT", street+"/entries/units", "5").status)
	})
	t.Run("forget", func(t *testing.T) {
		a.do(201, "PUT", street+"/entries/wifi", `"secret-word"`)
		assert.Contains(t, b.do(200, "GET", street+"/history", "").body, "secret-word")
		was := b.do(200, "GET", street+"/entries", "").json["mark"].(string)
		a.do(204, "DELETE", street+"/entries/wifi?forget=true", "")
		assert.NotContains(t, b.do(200, "GET", street+"/history", "").body, "secret-word")
		require.Eventually(t, func() bool {
			return b.do(200, "GET", street+"/entries?since="+was, "").json["whole"] == true
		}, hang.Patience, 10*time.Millisecond)
		resp, err := a.store.g.c.Get(t.Context(), string(a.store.g.keys), prefixed()...)
		require.NoError(t, err)
		for _, kv := range resp.Kvs {
			assert.NotContains(t, string(kv.Value), "secret-word", string(kv.Key))
		}
	})
	t.Run("removed", func(t *testing.T) {
		events := b.listen(t, b.admin)
		a.do(204, "DELETE", street, "")
		events.ended(5 * time.Second)
		assert.Equal(t, 404, b.as(b.admin, "GET", tank, "").status)
		resp, err := a.store.g.c.Get(t.Context(), string(a.store.g.keys), prefixed()...)
		require.NoError(t, err)
		for _, kv := range resp.Kvs {
			if key := string(kv.Key); key == a.store.g.keys.head("rowan-street") {
				assert.Regexp(t, `^\{"life":"[^"]+","gone":"[^"]+","version":\d+\}$`, string(kv.Value), "a tombstone")
				assert.NotZero(t, kv.Lease, "which ends by itself")
			} else if strings.Contains(key, "/l/") || strings.Contains(key, "/c/") || strings.Contains(key, "/p/") {
				assert.Contains(t, key, a.store.tokens.Life(), "only the tokens have batches")
			} else {
				assert.NotContains(t, key, "rowan-street")
			}
		}
		newBoard(b)
		assert.Equal(t, 404, a.as(a.admin, "GET", tank, "").status, "it is a new one")
	})
	for _, s := range both {
		s.do(200, "GET", "/readyz", "")
		for _, name := range []string{"feed_silent_seconds", "feed_lag_seconds", "fences_total", "transactions_total", "behind_total"} {
			assert.Contains(t, s.do(200, "GET", "/metrics", "").body, "\nsmallpantry_etcd_"+name+" ")
		}
	}
}

// A listening is a stream of events.
type listening struct {
	t     testing.TB
	lines chan string
}

func (s *site) listen(t testing.TB, token string) *listening {
	rq, err := http.NewRequestWithContext(t.Context(), "GET", s.url+street+"/events", nil)
	require.NoError(t, err)
	rq.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(rq)
	require.NoError(t, err)
	require.Equal(t, 200, resp.StatusCode)
	l := &listening{t, make(chan string, 1000)}
	go func() {
		defer close(l.lines)
		defer resp.Body.Close()
		for in := bufio.NewScanner(resp.Body); in.Scan(); {
			l.lines <- in.Text()
		}
	}()
	l.until("data:")
	return l
}

func (l *listening) until(part string) {
	l.t.Helper()
	late := time.After(hang.Patience)
	for {
		select {
		case line, ok := <-l.lines:
			require.True(l.t, ok, "the stream ended without %s", part)
			if strings.Contains(line, part) {
				return
			}
		case <-late:
			require.Fail(l.t, "no event in time", part)
		}
	}
}

func (l *listening) ended(within time.Duration) {
	l.t.Helper()
	late := time.After(within)
	for {
		select {
		case _, ok := <-l.lines:
			if !ok {
				return
			}
		case <-late:
			require.Fail(l.t, "the stream goes on")
		}
	}
}
