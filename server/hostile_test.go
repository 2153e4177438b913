package server_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// With tokens every page may ask, since no browser sends a token by itself. Without one nothing is done,
// with any Host, and no answer redirects. It is not parallel, since it changes the default client.
func TestHostile(t *testing.T) {
	s := startShared(t, server.Options{})
	s.make("b")
	own, _ := s.invite(s.admin, "b", `{"may":"own"}`)
	const b = "/v1/boards/b"
	var redirects int
	http.DefaultClient.CheckRedirect = func(*http.Request, []*http.Request) error { redirects++; return http.ErrUseLastResponse }
	defer func() { http.DefaultClient.CheckRedirect = nil }()
	for _, headers := range [][]string{
		{"Host", "garden.example"}, {"Origin", "https://garden.example"}, {"Origin", "null"}, {"X-Forwarded-For", "127.0.0.1"}, {"Forwarded", "for=127.0.0.1"},
		{"X-Forwarded-Host", "garden.example"}, {"Sec-Fetch-Site", "cross-site"}, {"X-Http-Method-Override", "DELETE"}, {"Cookie", "token=" + own},
	} {
		a := s.as("", "GET", b+"/entries", "", headers...)
		assert.Equal(t, 401, a.status, "%v", headers)
		a = s.as(own, "GET", b+"/entries", "", headers...)
		allowed := map[bool]string{true: "*"}[headers[0] == "Origin"] // the others are no page of another origin
		assert.Equal(t, []any{200, allowed, ""}, []any{a.status, a.header.Get("Access-Control-Allow-Origin"), a.header.Get("Access-Control-Allow-Credentials")}, "%v", headers)
	}
	a := s.as("", "OPTIONS", b+"/entries/x", "", "Origin", "https://garden.example", "Access-Control-Request-Method", "PUT", "Access-Control-Request-Headers", "authorization")
	assert.Equal(t, []any{204, "*"}, []any{a.status, a.header.Get("Access-Control-Allow-Origin")})
	assert.Contains(t, a.header.Get("Access-Control-Allow-Headers"), "Authorization")
	for _, query := range []string{"?token=" + own, "?access_token=" + own} {
		assert.Equal(t, 401, s.as("", "GET", b+"/entries"+query, "").status, "a token in a query is none")
	}
	req, err := http.NewRequestWithContext(t.Context(), "GET", s.base+b, nil)
	require.NoError(t, err)
	req.Header["Authorization"] = []string{"Bearer " + own, "Bearer x.y"}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	assert.Equal(t, 401, resp.StatusCode, "of two tokens none counts")
	a = s.as(s.admin, "PUT", "/v1/boards/nowhere/entries/x", "1")
	assert.Equal(t, "no-board", a.code(), "a board does not come into being by itself")
	for _, header := range []string{"Basic " + own, own, "Bearer", "Bearer  ", "bearer" + own} {
		assert.Equal(t, 401, ask(t, "GET", s.base+b, "", "Authorization", header).status, header)
	}
	assert.Equal(t, 200, ask(t, "GET", s.base+b, "", "Authorization", "bearer "+own).status, "the scheme's case is nothing (RFC 7235)")
	// Paths as they are sent, escapes and all.
	for _, path := range []string{
		"/v1/boards/../../admin-token", "/v1/boards/..%2f..%2fadmin-token", "/v1/boards/b/entries/../../../admin-token", "/v1/boards/b/entries/..%2F..%2Fx",
		"/v1/boards/%2e%2e/entries", "//v1/boards/b", "/v1/boards//entries", "/v1/boards/b/", "/v1/boards/b/entries/", "/v1/boards/b/entries//x", "/v1//boards", "/../x",
		"/v1/boards/b%00/entries", "/v1/boards/b/entries/a%00", "/v1/boards/b/entries/%ff", "/V1/boards/b", "/v1/boards/B", "/admin-token", "/access/tokens.jsonl", "/v1/boards/tokens/entries", `/v1/boards/b\..\x/entries`,
	} {
		for _, method := range []string{"GET", "PUT", "DELETE", "POST"} {
			conn := dial(t, s.base)
			for _, token := range []string{own, s.admin} {
				fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: 1\r\n\r\n1", method, path, token)
				resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
				require.NoError(t, err, path)
				body, err := io.ReadAll(resp.Body)
				require.NoError(t, err)
				assert.True(t, resp.StatusCode >= 400 && resp.StatusCode < 500, "%s %s: %d %s", method, path, resp.StatusCode, body)
				assert.NotContains(t, string(body), s.admin[6:])
				assert.NotContains(t, string(body), `"hash"`)
				if resp.Close || resp.StatusCode == 400 {
					break
				}
			}
			conn.Close()
		}
	}
	for _, encoding := range []string{"gzip", "br", "identity, gzip"} {
		assert.Equal(t, 415, s.as(own, "PUT", b+"/entries/x", "1", "Content-Encoding", encoding).status)
	}
	assert.Zero(t, redirects)
	var files []string
	require.NoError(t, filepath.WalkDir(s.data, func(path string, _ os.DirEntry, err error) error {
		rel, _ := filepath.Rel(s.data, path)
		files = append(files, rel)
		return err
	}))
	assert.Equal(t, []string{".", "access", "access/.tokens.lock", "access/tokens.jsonl", "admin-token", "boards", "boards/.b.lock", "boards/b.jsonl", "server.lock"}, files)
	info, err := os.Stat(filepath.Join(s.data, "admin-token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	entries, err := filepath.Glob(filepath.Join(filepath.Dir(s.data), "*"))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing beside DATA")
}

// No secret is anywhere but in the file of the admin token and with its holder.
func TestSecretsStayWhereTheyAre(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	var mu sync.Mutex
	s := startShared(t, server.Options{Log: slog.New(slog.NewJSONHandler(lockedWriter{&mu, &out}, &slog.HandlerOptions{Level: slog.LevelDebug}))})
	s.make("b")
	own, _ := s.invite(s.admin, "b", `{"may":"own","label":"gatehouse"}`)
	secrets := []string{s.admin, s.admin[len("admin."):], own, own[9:]}
	var said strings.Builder
	for _, token := range []string{own, s.admin, own + "x", own[:9], strings.ToUpper(own)} {
		for _, call := range []string{"GET /v1/boards/b/entries?token=" + own, "GET /v1/boards/b/tokens", "GET /v1/boards/none", "PUT /v1/boards/b/entries/a//b", "POST /v1/boards/b/commit"} {
			method, path, _ := strings.Cut(call, " ")
			if wrong := token != own && token != s.admin; wrong && method != "GET" {
				continue // fewer, since their answers are late
			}
			said.WriteString(s.as(token, method, path, `{`).body)
		}
	}
	s.as(own, "PUT", "/v1/boards/b/entries/x", "1")
	s.stop()
	for _, secret := range secrets {
		assert.NotContains(t, said.String(), secret)
		assert.NotContains(t, out.String(), secret)
	}
	assert.Contains(t, out.String(), `"route":"/v1/boards/{board}/entries"`)
	require.NoError(t, filepath.WalkDir(s.data, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == "admin-token" {
			return err
		}
		raw, err := os.ReadFile(path)
		for _, secret := range secrets {
			assert.NotContains(t, string(raw), secret, path)
		}
		return err
	}))
	require.NoError(t, os.WriteFile(filepath.Join(s.data, "admin-token"), []byte("short\n"), 0o600))
	_, err := server.New(server.Options{Data: s.data})
	assert.ErrorContains(t, err, "has no admin token")
}

// A caller that tries tokens waits for its answers. A right token from the same address never waits.
func TestWrongTokensAreSlowed(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testWrongTokensAreSlowed)
}

func testWrongTokensAreSlowed(t *testing.T) {
	s := sharedInMemory(t, server.Options{})
	s.make("b")
	own, _ := s.invite(s.admin, "b", `{"may":"own"}`)
	for range 10 {
		require.Equal(t, 401, s.as("x.y", "GET", "/v1/boards/b", "").status)
	}
	from := time.Now()
	slow := make(chan time.Duration, 1)
	go func() {
		s.as("x.y", "GET", "/v1/boards/b", "")
		slow <- time.Since(from)
	}()
	for range 20 {
		require.Equal(t, 200, s.as(own, "GET", "/v1/boards/b", "").status)
	}
	select {
	case took := <-slow:
		t.Errorf("the wrong token was answered after %v, before 20 right ones", took)
	default:
	}
	assert.GreaterOrEqual(t, <-slow, time.Second)
	assert.Equal(t, 401, s.as("", "GET", "/v1/boards/b", "").status, "none is not a wrong one")
	many := make(chan int, 150)
	for range cap(many) {
		go func() { many <- s.as("x.y", "GET", "/v1/boards/b", "").status }()
	}
	answers := map[int]int{}
	for range cap(many) {
		answers[<-many]++
	}
	assert.Equal(t, 150, answers[401]+answers[429])
	assert.GreaterOrEqual(t, answers[401], 100, "a hundred wait")
	assert.Positive(t, answers[429], "and no more at the same time")
}

// A server that takes little says so, and what it refuses leaves the rest as it was.
func TestLimits(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{Limits: server.Limits{Names: 2, Bytes: 100, Boards: 2, Streams: 1}})
	s.make("b")
	s.make("c")
	a := s.as(s.admin, "POST", "/v1/boards", `{"board":"d"}`)
	assert.Equal(t, []any{409, "quota"}, []any{a.status, a.code()}, a.body)
	assert.Equal(t, 200, s.as(s.admin, "POST", "/v1/boards", `{"board":"c"}`).status, "that one is there")
	const b = "/v1/boards/b"
	assert.Equal(t, 201, s.as(s.admin, "PUT", b+"/entries/one", "1").status)
	assert.Equal(t, 409, s.as(s.admin, "PUT", b+"/entries/two", strings.Repeat("x", 100)).status)
	assert.Equal(t, 201, s.as(s.admin, "PUT", b+"/entries/two", "2").status)
	assert.Equal(t, "quota", s.as(s.admin, "PUT", b+"/entries/three", "3").code())
	limits := s.as(s.admin, "GET", b, "").json["limits"].(map[string]any)
	assert.Equal(t, []any{json.Number("2"), json.Number("100"), json.Number("1")}, []any{limits["names"], limits["bytes"], limits["watchers"]})
	stream := s.stream(s.admin, b+"/events")
	stream.next()
	a = s.as(s.admin, "GET", b+"/entries?wait=1&since=0.00000000", "")
	assert.Equal(t, []any{503, "unavailable", "10"}, []any{a.status, a.code(), a.header.Get("Retry-After")}, a.body)
	assert.Equal(t, 200, s.as(s.admin, "GET", b+"/entries", "").status, "a plain poll goes on")
	stream.resp.Body.Close()
	require.Eventually(t, func() bool { return s.streams() == "0" }, hang.Patience, 5*time.Millisecond)
	require.Equal(t, 204, s.as(s.admin, "DELETE", "/v1/boards/c", "").status)
	s.make("d")
	for text, fine := range map[string]bool{"names=5": true, "bytes=8MiB": true, "boards=1": true, "streams=9": true, "names": false, "names=": false, "names=-1": false, "phones=2": false, "bytes=1TB": false, "": false} {
		var l server.Limits
		assert.Equal(t, fine, l.Set(text) == nil, text)
	}
	last := 0
	for range 1001 {
		a = s.as(s.admin, "POST", "/v1/boards/d/tokens", `{"may":"read"}`)
		if a.status == 201 {
			last++
		}
	}
	assert.Equal(t, []any{1000, "quota"}, []any{last, a.code()}, "tokens of a board")
}

// Operators ask whether it runs and whether it is ready, without a token.
func TestReady(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	assert.Equal(t, "ok", s.as("", "GET", "/healthz", "").json["status"])
	assert.Equal(t, "ready", s.as("", "GET", "/readyz", "").json["status"])
	require.NoError(t, os.Rename(filepath.Join(s.data, "boards"), filepath.Join(s.data, "moved")))
	a := s.as("", "GET", "/readyz", "")
	assert.Equal(t, []any{503, "unavailable"}, []any{a.status, a.code()})
	assert.NotContains(t, a.body, s.data)
	require.NoError(t, os.Rename(filepath.Join(s.data, "moved"), filepath.Join(s.data, "boards")))
	s.make("b")
	for range 3 {
		s.as(s.admin, "GET", "/v1/boards/b", "")
		s.as(s.admin, "NONSENSE", "/v1/boards/b", "")
		s.as(s.admin, "GET", "/v1/"+strings.Repeat("x", 9), "")
	}
	told := s.as(s.admin, "GET", "/metrics", "").body
	for _, line := range []string{
		`smallpantry_requests_total{method="GET",route="/v1/boards/{board}",status="200"} 3`, `smallpantry_requests_total{method="other",route="/v1/boards/{board}",status="405"} 3`,
		`smallpantry_requests_total{method="GET",route="none",status="404"} 3`, `smallpantry_boards_open 1`, `smallpantry_streams_most 2000`,
	} {
		assert.Contains(t, told, line+"\n")
	}
	assert.NotContains(t, told, "xxxxxxxxx", "what somebody asks for makes no line")
}
