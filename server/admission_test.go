package server_test

import (
	"bufio"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
)

// half sends the head of a request with a body of a declared length, and some of the body.
func (s *shared) half(token, method, path, sent string, length int) net.Conn {
	s.t.Helper()
	conn := dial(s.t, s.base)
	_, err := fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: garden\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", method, path, token, length, sent)
	require.NoError(s.t, err)
	return conn
}

// reply reads the status and the body of the answer on a connection.
func reply(t *testing.T, conn net.Conn) (status int, body string) {
	t.Helper()
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw := new(strings.Builder)
	_, err = bufio.NewReader(resp.Body).WriteTo(raw)
	require.NoError(t, err)
	return resp.StatusCode, raw.String()
}

// Bodies that are declared and do not arrive take no room from others.
func TestDeclaredBodiesTakeNoRoom(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	s.make("elm")
	attacker, _ := s.invite(s.admin, "oak", `{"may":"write"}`)
	phone, _ := s.invite(s.admin, "elm", `{"may":"add","prefix":"tank/"}`)
	for range 200 {
		s.half(attacker, "POST", "/v1/boards/oak/commit", "", 32768)
	}
	for range 50 {
		s.half(attacker, "POST", "/v1/boards/oak/commit", "", 1<<20)
	}
	a := s.as(phone, "POST", "/v1/boards/elm/entries/tank/litres", `{"op":"add","amount":1}`, "Content-Type", typeJSON)
	assert.Equal(t, 201, a.status, a.body)
}

// Bodies that arrive count, and one link has a share. Another board's phone is refused nothing.
func TestBodiesOfOneLink(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	s.make("elm")
	attacker, _ := s.invite(s.admin, "oak", `{"may":"write"}`)
	phone, _ := s.invite(s.admin, "elm", `{"may":"write"}`)
	piece := strings.Repeat(" ", 900<<10)
	var refused atomic.Int64
	var using sync.WaitGroup
	defer using.Wait()
	for range 16 {
		conn := dial(t, s.base)
		_, err := fmt.Fprintf(conn, "POST /v1/boards/oak/commit HTTP/1.1\r\nHost: garden\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n", attacker, 1<<20)
		require.NoError(t, err)
		_, _ = conn.Write([]byte(piece)) // a refused one may end before it has been sent
		using.Go(func() {
			if resp, err := http.ReadResponse(bufio.NewReader(conn), nil); err == nil {
				assert.Equal(t, 503, resp.StatusCode)
				assert.Equal(t, "1", resp.Header.Get("Retry-After"))
				refused.Add(1)
			}
		})
		using.Go(func() { // a body that stops for 10 s ends
			for range time.Tick(time.Second) {
				if _, err := conn.Write([]byte(" ")); err != nil {
					return
				}
			}
		})
		defer conn.Close()
	}
	require.Eventually(t, func() bool { return refused.Load() >= 6 }, hang.Patience, time.Millisecond, "8 MiB of 14 are its share")
	a := s.as(phone, "PUT", "/v1/boards/elm/entries/note", strings.Repeat("x", 500<<10))
	assert.Equal(t, 201, a.status, a.body)
}

// A link that is revoked, or a board that is made again, while a body arrives: nothing is stored.
func TestRightsAtTheCommit(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	for _, call := range []struct{ method, path, body string }{
		{"PUT", "/entries/tank/litres", "1"},
		{"POST", "/entries/tank/litres", `{"op":"add","amount":1}`},
		{"POST", "/commit", `{"ops":[{"op":"put","name":"tank/litres","value":1}]}`},
		{"POST", "/keys", `{"keys":[{"name":"tank/litres","kind":"int"}]}`},
		{"POST", "/tokens", `{"may":"read"}`},
	} {
		for _, again := range []bool{false, true} {
			s.make("oak")
			token, id := s.invite(s.admin, "oak", `{"may":"own"}`)
			conn := s.half(token, call.method, "/v1/boards/oak"+call.path, call.body[:len(call.body)-1], len(call.body))
			require.Eventually(t, func() bool {
				return strings.Contains(s.as(s.admin, "GET", "/metrics", "").body, "smallpantry_requests_under_way 2")
			}, hang.Patience, 5*time.Millisecond)
			if again {
				require.Equal(t, 204, s.as(s.admin, "DELETE", "/v1/boards/oak", "").status)
				s.make("oak")
			} else {
				require.Equal(t, 204, s.as(s.admin, "DELETE", "/v1/boards/oak/tokens/"+id, "").status)
			}
			_, err := conn.Write([]byte(call.body[len(call.body)-1:]))
			require.NoError(t, err)
			status, body := reply(t, conn)
			assert.Equal(t, 401, status, "%s %s, again %v: %s", call.method, call.path, again, body)
			assert.Contains(t, s.as(s.admin, "GET", "/v1/boards/oak", "").body, `"version":0`, "nothing was stored: %s", call.path)
			require.Equal(t, 204, s.as(s.admin, "DELETE", "/v1/boards/oak", "").status)
		}
	}
}

// One link has half of all streams at most. Others have the rest.
func TestStreamsOfOneLink(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{Limits: server.Limits{Streams: 8}})
	s.make("oak")
	s.make("elm")
	attacker, _ := s.invite(s.admin, "oak", `{"may":"read"}`)
	phone, _ := s.invite(s.admin, "elm", `{"may":"read"}`)
	for range 4 {
		s.stream(attacker, "/v1/boards/oak/events").next()
	}
	a := s.as(attacker, "GET", "/v1/boards/oak/entries?wait=1", "")
	assert.Equal(t, []any{503, "unavailable", "10"}, []any{a.status, a.code(), a.header.Get("Retry-After")})
	s.stream(phone, "/v1/boards/elm/events").next()
}

// What a query can select is bounded, and prefixes that others cover do not count.
func TestSelectionIsBounded(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	read, _ := s.invite(s.admin, "oak", `{"may":"read"}`)
	many := func(n int, form string) string {
		var q []string
		for i := range n {
			q = append(q, fmt.Sprintf(form, i))
		}
		return strings.Join(q, "&")
	}
	for query, status := range map[string]int{
		many(100, "prefix=%d-/"): 200, many(101, "prefix=%d-/"): 400, many(300, "prefix=a%d/") + "&prefix=a": 200,
		many(1000, "name=n%d"): 200, many(1001, "name=n%d"): 400,
	} {
		a := s.as(read, "GET", "/v1/boards/oak/entries?"+query, "")
		assert.Equal(t, status, a.status, "%s: %s", query[:30], a.body)
	}
}

// The number and the size of declared keys are bounded, and so are the findings of one declaration.
func TestDeclaredKeysAreBounded(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	declare := func(from, n int, about string) answer {
		var keys []string
		for i := range n {
			keys = append(keys, fmt.Sprintf(`{"name":"bed-number-%d","kind":"int","about":%q}`, from+i, about))
		}
		return s.as(s.admin, "POST", "/v1/boards/oak/keys", `{"keys":[`+strings.Join(keys, ",")+`]}`)
	}
	require.Equal(t, 200, declare(0, 1000, "").status)
	require.Equal(t, 200, declare(1000, 1000, "").status)
	assert.Equal(t, "quota", declare(2000, 1, "").code())
	assert.Equal(t, 200, declare(0, 1000, "").status, "those that are declared can be declared again")
	s.make("elm")
	var keys []string
	for i := range 300 {
		keys = append(keys, fmt.Sprintf(`{"name":"Password%c%c","kind":"int"}`, 'a'+i%26, 'a'+i/26))
	}
	a := s.as(s.admin, "POST", "/v1/boards/elm/keys", `{"keys":[`+strings.Join(keys, ",")+`]}`)
	assert.LessOrEqual(t, len(a.json["findings"].([]any)), 20, a.status)
	require.Equal(t, 204, s.as(s.admin, "DELETE", "/v1/boards/elm", "").status)
	s.make("elm")
	var big answer
	for i := range 30 {
		big = s.as(s.admin, "POST", "/v1/boards/elm/keys", fmt.Sprintf(`{"keys":[{"name":"k%d","kind":"text","about":%q}]}`, i, strings.Repeat("x", 60<<10)))
		if big.status != 200 {
			break
		}
	}
	assert.Equal(t, "quota", big.code(), big.body)
	s.make("ash")
	for i := range 30 {
		require.Equal(t, 200, s.as(s.admin, "POST", "/v1/boards/ash/keys", fmt.Sprintf(`{"keys":[{"name":"k%d","kind":"int"}]}`, i)).status)
	}
	for i := range 30 {
		big = s.as(s.admin, "POST", "/v1/boards/ash/keys", fmt.Sprintf(`{"change":true,"keys":[{"name":"k%d","kind":"text","about":%q}]}`, i, strings.Repeat("x", 60<<10)))
		if big.status != 200 {
			break
		}
	}
	assert.Equal(t, "quota", big.code(), "changed keys count at their new size: %s", big.body)
}

// A family and a plain key of one name are separate: a link inside the family can't change the key.
func TestFamilyBesideAKey(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	const b = "/v1/boards/oak"
	require.Equal(t, 200, s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tank","kind":"int","default":0,"min":0,"max":5000}]}`).status)
	bound, _ := s.invite(s.admin, "oak", `{"may":"own","prefix":"tank/","label":"shed"}`)
	a := s.as(bound, "POST", b+"/keys", `{"keys":[{"name":"tank","kind":"text","family":true}],"change":true}`)
	require.Equal(t, 200, a.status, a.body)
	assert.NotContains(t, a.body, "admin", "it does not learn who declared tank")
	assert.Equal(t, "out-of-range", s.as(s.admin, "PUT", b+"/entries/tank", "999999").code())
	assert.Equal(t, 201, s.as(s.admin, "PUT", b+"/entries/tank/note", "full").status)
	assert.Equal(t, 403, s.as(bound, "DELETE", b+"/keys/tank", "").status)
	assert.Equal(t, 204, s.as(bound, "DELETE", b+"/keys/tank?family=true", "").status)
	assert.Equal(t, "absent", s.as(s.admin, "DELETE", b+"/keys/tank?family=true", "").code())
	assert.Equal(t, "out-of-range", s.as(s.admin, "PUT", b+"/entries/tank", "999999").code())
	a = s.as(s.admin, "GET", b+"/keys", "")
	assert.Len(t, a.json["keys"], 1)
}

// A commit can restore at most eight earlier states.
func TestRestoresAreBounded(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	const b = "/v1/boards/oak"
	for i := range 12 {
		require.Less(t, s.as(s.admin, "PUT", b+"/entries/n", fmt.Sprint(i)).status, 300)
	}
	restore := func(n int) answer {
		var ops []string
		for i := range n {
			ops = append(ops, fmt.Sprintf(`{"op":"restore","at":%d,"names":["n"]}`, 1+i%12))
		}
		return s.as(s.admin, "POST", b+"/commit", `{"ops":[`+strings.Join(ops, ",")+`]}`)
	}
	assert.Equal(t, 200, restore(8).status)
	assert.Equal(t, "invalid", restore(9).code())
}

// Idle connections are closed, the oldest first, before a new one would be refused.
func TestIdleConnectionsGo(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	phone, _ := s.invite(s.admin, "oak", `{"may":"read"}`)
	var idle []net.Conn
	for range 1100 {
		idle = append(idle, dial(t, s.base))
	}
	assert.Equal(t, 200, s.as(phone, "GET", "/v1/boards/oak", "").status)
	require.NoError(t, idle[0].SetReadDeadline(time.Now().Add(10*time.Second)))
	_, err := idle[0].Read(make([]byte, 1))
	assert.Error(t, err)
	assert.NotErrorIs(t, err, os.ErrDeadlineExceeded, "the oldest was closed")
}

// Only a listed proxy can name the client, and what it wrote itself is read, from the right.
func TestBehindProxy(t *testing.T) {
	t.Parallel()
	loopback, inside := netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("10.0.0.0/8")
	for name, c := range map[string]struct {
		proxies    []netip.Prefix
		one, other string
		shared     bool // both count for one address
	}{
		"a listed proxy":     {[]netip.Prefix{loopback}, "9.9.9.1", "9.9.9.2", false},
		"a chain":            {[]netip.Prefix{loopback, inside}, "6.6.6.6, 9.9.9.1, 10.0.0.1", "7.7.7.7, 9.9.9.1, 10.0.0.1", true},
		"something else":     {[]netip.Prefix{loopback}, "unknown", "hidden", true},
		"a proxy not listed": {nil, "9.9.9.1", "9.9.9.2", true},
	} {
		var mu sync.Mutex
		var log strings.Builder
		s := startShared(t, server.Options{
			BehindProxy: c.proxies, Log: slog.New(slog.NewTextHandler(lockedWriter{&mu, &log}, nil)),
			Limits: server.Limits{ClientRate: 1000, AddressRate: 1, BoardRate: 1000},
		})
		from := func(address string) int {
			return s.as(s.admin, "GET", "/v1/boards", "", "X-Forwarded-For", address).status
		}
		require.Eventually(t, func() bool { return from(c.one) == 429 }, hang.Patience, time.Millisecond, name)
		over := from(c.other) == 429
		for tries := 0; c.shared && !over && tries < 50; tries++ { // a request a second is allowed meanwhile
			over = from(c.other) == 429
		}
		assert.Equal(t, c.shared, over, name)
		mu.Lock()
		assert.Equal(t, c.proxies == nil, strings.Contains(log.String(), "X-Forwarded-For"), name)
		assert.LessOrEqual(t, strings.Count(log.String(), "X-Forwarded-For"), 1, "it is logged once")
		mu.Unlock()
	}
}

// Removing an entry with its history is one commit. If the file can't be rewritten, the answer says so.
func TestForgetIsOneCommit(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("oak")
	const b = "/v1/boards/oak"
	require.Equal(t, 201, s.as(s.admin, "PUT", b+"/entries/gate", "rhubarb").status)
	require.Equal(t, 204, s.as(s.admin, "DELETE", b+"/entries/gate?forget=true", "").status)
	assert.Contains(t, s.as(s.admin, "GET", b, "").body, `"version":2`)
	file := filepath.Join(s.data, "boards", "oak.jsonl")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "rhubarb")
	assert.NotContains(t, string(raw), "gate")
	assert.Equal(t, "absent", s.as(s.admin, "DELETE", b+"/entries/gate?forget=true", "").code())
}

// The health of a server can be checked without a body.
func TestHeadOfHealth(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	for _, path := range []string{"/healthz", "/readyz"} {
		a := s.as("", "HEAD", path, "")
		assert.Equal(t, 200, a.status, path)
		assert.Empty(t, a.body)
	}
}
