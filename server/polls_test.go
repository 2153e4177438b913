package server_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/server"
)

// What is remembered for a connection is used for it alone, and expires. Every call over it is answered as
// over another connection.
func TestOneConnection(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("rowan-street")
	s.make("oak")
	const list = "/v1/boards/rowan-street/entries"
	owner, _ := s.invite(s.admin, "rowan-street", `{"may":"write"}`)
	narrow, id := s.invite(s.admin, "rowan-street", `{"may":"read","prefix":"tank/"}`)
	client := &http.Client{Transport: &http.Transport{MaxConnsPerHost: 1}}
	defer client.CloseIdleConnections()
	over := func(token, method, path, body string, headers ...string) (int, http.Header, string) {
		t.Helper()
		req, err := http.NewRequest(method, s.base+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		for i := 0; i < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		resp, err := client.Do(req)
		require.NoError(t, err)
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		return resp.StatusCode, resp.Header, string(raw)
	}
	put := func(name, value string) {
		t.Helper()
		code, _, said := over(owner, "PUT", list+"/"+name, value)
		require.Less(t, code, 300, said)
	}
	put("tank/litres", "420")
	put("gate/open", "true")

	_, h, all := over(owner, "GET", list, "")
	assert.Contains(t, all, "gate/open")
	tag := h.Get("ETag")
	for range 3 {
		code, h, said := over(owner, "GET", list, "", "If-None-Match", tag)
		assert.Equal(t, []any{304, tag, ""}, []any{code, h.Get("ETag"), said})
		assert.Empty(t, h.Get("X-Content-Type-Options"), "it has no body")
	}
	code, h, said := over(narrow, "GET", list, "", "If-None-Match", tag)
	assert.Equal(t, 200, code, "it was said of another list")
	assert.NotEqual(t, tag, h.Get("ETag"))
	assert.NotContains(t, said, "gate/open")
	code, _, said = over(owner, "GET", list+"?prefix=gate/", "", "If-None-Match", tag)
	assert.Equal(t, 200, code, said)
	assert.NotContains(t, said, "tank/litres")
	code, _, _ = over(owner, "GET", list, "", "If-None-Match", tag)
	assert.Equal(t, 304, code)
	require.Equal(t, 200, s.as(owner, "PUT", list+"/tank/litres", "400").status) // over another one
	code, h, said = over(owner, "GET", list, "", "If-None-Match", tag)
	assert.Equal(t, 200, code)
	assert.Contains(t, said, `"value":400`)
	assert.NotEqual(t, tag, h.Get("ETag"))
	code, h, _ = over(owner, "GET", list, "", "If-None-Match", `"other", `+h.Get("ETag"))
	assert.Equal(t, 304, code, "one of several")
	assert.NotEmpty(t, h.Get("ETag"))

	code, _, _ = over(owner, "DELETE", list+"/gate/open", "")
	assert.Less(t, code, 300)
	code, h, _ = over(owner, "GET", list+"/gate/open", "")
	assert.Equal(t, []any{404, "nosniff"}, []any{code, h.Get("X-Content-Type-Options")}, "the same path by another method")
	code, h, _ = over(owner, "BREW", list+"/gate/open", "")
	assert.Equal(t, []any{405, "DELETE, GET, HEAD, POST, PUT"}, []any{code, h.Get("Allow")}, "RFC 9110, 15.5.6")
	code, _, _ = over(owner, "GET", "/v1/boards/oak/entries", "")
	assert.Equal(t, 401, code, "a token is of its board")
	code, _, _ = over(owner, "GET", list+"?", "")
	assert.Equal(t, 200, code)

	told := s.as(s.admin, "GET", "/metrics", "").body
	assert.Contains(t, told, `smallpantry_requests_total{method="GET",route="/v1/boards/{board}/entries",status="304"} 5`)

	code, _, _ = over(narrow, "GET", list, "")
	assert.Equal(t, 200, code)
	require.Less(t, s.as(s.admin, "DELETE", "/v1/boards/rowan-street/tokens/"+id, "").status, 300)
	code, _, _ = over(narrow, "GET", list, "")
	assert.Equal(t, 401, code, "it was revoked")
}

// Boards are paced each by itself, over one connection too.
func TestPaceOfBoardsOverOneConnection(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testPaceOfBoardsOverOneConnection)
}

func testPaceOfBoardsOverOneConnection(t *testing.T) {
	s := sharedInMemory(t, server.Options{Limits: server.Limits{ClientRate: 1000, AddressRate: 1000, BoardRate: 5}})
	s.make("oak")
	s.make("elm")
	client := &http.Client{Transport: &http.Transport{
		MaxConnsPerHost: 1,
		DialContext:     func(context.Context, string, string) (net.Conn, error) { return dial(t, s.base), nil },
	}}
	defer client.CloseIdleConnections()
	ask := func(board string) int {
		req, err := http.NewRequest("GET", s.base+"/v1/boards/"+board+"/entries", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+s.admin)
		resp, err := client.Do(req)
		require.NoError(t, err)
		_, err = io.Copy(io.Discard, resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		return resp.StatusCode
	}
	for n := 0; ask("oak") != 429; n++ {
		require.Less(t, n, 100)
	}
	assert.Equal(t, 200, ask("elm"))
	assert.Equal(t, 429, ask("oak"))
}

// A client of whom nothing came for a while is forgotten where there are too many; a connection
// that remembers how he was paced looks again, so that he has one pace over all of his.
func TestPaceThatWasForgotten(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testPaceThatWasForgotten)
}

func testPaceThatWasForgotten(t *testing.T) {
	s := sharedInMemory(t, server.Options{Limits: server.Limits{ClientRate: 2, AddressRate: 1 << 20, BoardRate: 1 << 20}})
	s.make("oak")
	over := func() func(client string) int {
		conn := dial(t, s.base)
		in := bufio.NewReader(conn)
		return func(client string) int {
			_, err := fmt.Fprintf(conn, "GET /v1/boards/oak HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nClient-Instance: %s\r\n\r\n", s.admin, client)
			require.NoError(t, err)
			resp, err := http.ReadResponse(in, nil)
			require.NoError(t, err)
			_, err = io.Copy(io.Discard, resp.Body)
			require.NoError(t, errors.Join(err, resp.Body.Close()))
			return resp.StatusCode
		}
	}
	one, crowd := over(), over()
	require.Equal(t, 200, one("tankwatch"))
	time.Sleep(2500 * time.Millisecond) // then a burst is full again, and its caller can be forgotten
	for n := range 20_000 {
		require.Equal(t, 200, crowd(fmt.Sprint("phone", n)))
	}
	another, passed := over(), 0 // who says nothing at first is not listened to for long
	for n := range 12 {
		if []func(string) int{one, another}[n%2]("tankwatch") == 200 {
			passed++
		}
	}
	assert.LessOrEqual(t, passed, 6, "four at once, and two a second")
}
