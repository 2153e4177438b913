package server_test

import (
	"bufio"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/server"
)

// A shared server has tokens.
type shared struct {
	t           testing.TB
	base, admin string
	data        string
	stop        func()
}

func startShared(t testing.TB, o server.Options) *shared {
	t.Helper()
	return share(t, o, startWith)
}

// sharedInMemory is startShared for a test in a synctest bubble.
func sharedInMemory(t testing.TB, o server.Options) *shared {
	t.Helper()
	return share(t, o, inMemory)
}

func share(t testing.TB, o server.Options, start func(testing.TB, server.Options) (string, func())) *shared {
	t.Helper()
	if o.Data == "" {
		o.Data = t.TempDir()
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Limits.ClientRate == 0 { // what a test asks comes from one address
		o.Limits.ClientRate, o.Limits.AddressRate, o.Limits.BoardRate = 100_000, 100_000, 100_000
	}
	s := &shared{t: t, data: o.Data}
	s.base, s.stop = start(t, o)
	raw, err := os.ReadFile(filepath.Join(o.Data, "admin-token"))
	require.NoError(t, err)
	s.admin = strings.TrimSpace(string(raw))
	return s
}

// as asks with a token; an empty one is none.
func (s *shared) as(token, method, path, body string, headers ...string) answer {
	s.t.Helper()
	if token != "" {
		headers = append(headers, "Authorization", "Bearer "+token)
	}
	return ask(s.t, method, s.base+path, body, headers...)
}

func (s *shared) make(board string) {
	s.t.Helper()
	require.Equal(s.t, 201, s.as(s.admin, "POST", "/v1/boards", `{"board":"`+board+`"}`).status)
}

// invite makes a token, with another.
func (s *shared) invite(by, board, invitation string) (token, id string) {
	s.t.Helper()
	a := s.as(by, "POST", "/v1/boards/"+board+"/tokens", invitation)
	require.Equal(s.t, 201, a.status, a.body)
	return a.json["token"].(string), a.json["id"].(string)
}

var ranks = []string{"", "read", "add", "write", "own", "admin"}

// Every call of the server under every right, with and without a prefix. A row has the right that the call
// needs, the answer to a token with it, and the answer to a token for tank/ alone.
func TestMatrix(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	s.make("other")
	const b = "/v1/boards/b"
	put := func(name, more string) string {
		return `{"ops":[{"op":"put","name":"tank/litres","value":1},{"op":"put","name":"` + name + `","value":"1"` + more + `}]}`
	}
	rows := []struct {
		method, path, body string
		needs              string
		whole, prefixed    int
	}{
		{"GET", b + "/entries/tank/litres", "", "read", 200, 200},
		{"HEAD", b + "/entries/tank/litres", "", "read", 200, 200},
		{"GET", b + "/entries/tank/none", "", "read", 404, 404},
		{"GET", b + "/entries/gate/open", "", "read", 200, 403},
		{"GET", b + "/entries/gate/none", "", "read", 404, 403},
		{"GET", b + "/entries/tank", "", "read", 404, 403},
		{"GET", b + "/entries/tank%2Flitres", "", "read", 200, 200},
		{"PUT", b + "/entries/tank/litres", "5", "write", 200, 200},
		{"PUT", b + "/entries/gate/open", "open", "write", 200, 403},
		{"PUT", b + "/entries/gate/new", "true", "write", 201, 403},
		{"POST", b + "/entries/tank/litres", `{"op":"add","amount":1}`, "add", 200, 200},
		{"POST", b + "/entries/tank/litres", `{"op":"raise","to":1}`, "add", 200, 200},
		{"POST", b + "/entries/tank/litres", `{"op":"lower","to":1}`, "add", 200, 200},
		{"POST", b + "/entries/tank/log", `{"op":"append","item":"x"}`, "add", 200, 200},
		{"POST", b + "/entries/tank/log", `{"op":"append","item":"x","keep":1}`, "write", 200, 200},
		{"POST", b + "/entries/tank/kept", `{"op":"append","item":"x","keep":5}`, "add", 200, 200},
		{"POST", b + "/entries/tank/kept", `{"op":"append","item":"x","keep":4}`, "write", 200, 200},
		{"POST", b + "/entries/tank/log", `{"op":"remove","item":"a"}`, "write", 200, 200},
		{"POST", b + "/entries/tank/log", `{"op":"take","at":0}`, "write", 200, 200},
		{"POST", b + "/entries/gate/count", `{"op":"add","amount":1}`, "add", 200, 403},
		{"POST", b + "/entries/gate/new", `{"op":"add","amount":1}`, "write", 201, 403},
		{"POST", b + "/entries/tank/declared", `{"op":"add","amount":1}`, "add", 201, 201},
		{"DELETE", b + "/entries/tank/litres", "", "write", 204, 204},
		{"DELETE", b + "/entries/gate/open", "", "write", 204, 403},
		{"DELETE", b + "/entries/gate/none", "", "write", 404, 403},
		{"DELETE", b + "/entries/tank/litres?forget=true", "", "own", 204, 204},
		{"POST", b + "/commit", put("tank/log2", ""), "write", 200, 200},
		{"POST", b + "/commit", put("gate/open", ""), "write", 200, 403},
		{"POST", b + "/commit", put("gate/open", `,"if":99`), "write", 412, 403},
		{"POST", b + "/commit", `{"ops":[{"op":"add","name":"tank/litres","amount":1}]}`, "add", 200, 200},
		{"POST", b + "/commit", `{"ops":[{"op":"add","name":"tank/litres","amount":1},{"op":"drop","name":"tank/log"}]}`, "write", 200, 200},
		{"POST", b + "/commit", `{"ops":[{"op":"reset","prefix":"tank/"}]}`, "write", 200, 200},
		{"POST", b + "/commit", `{"ops":[{"op":"reset","prefix":""}]}`, "write", 200, 403},
		{"POST", b + "/commit", `{"ops":[{"op":"reset","prefix":"tank"}]}`, "write", 200, 403},
		{"POST", b + "/commit", `{"ops":[{"op":"restore","at":0,"prefix":"tank/"}]}`, "write", 200, 200},
		{"POST", b + "/commit", `{"ops":[{"op":"restore","at":0,"prefix":""}]}`, "write", 200, 403},
		{"POST", b + "/commit", `{"ops":[{"op":"restore","at":0,"names":["gate/open"]}]}`, "write", 200, 403},
		{"GET", b + "/entries", "", "read", 200, 200},
		{"HEAD", b + "/entries", "", "read", 200, 200},
		{"GET", b + "/entries?name=tank/litres&name=tank/none", "", "read", 200, 200},
		{"GET", b + "/entries?name=tank/litres&name=gate/open", "", "read", 200, 403},
		{"GET", b + "/entries?prefix=tank/", "", "read", 200, 200},
		{"GET", b + "/entries?prefix=ta", "", "read", 200, 403},
		{"GET", b + "/entries?at=1", "", "read", 200, 200},
		{"GET", b + "/entries?at=1&name=gate/open", "", "read", 200, 403},
		{"GET", b + "/history", "", "read", 200, 200},
		{"GET", b + "/history?name=gate/open", "", "read", 200, 403},
		{"GET", b + "/keys", "", "read", 200, 200},
		{"POST", b + "/keys", `{"keys":[{"name":"tank/colour","kind":"text","default":""}]}`, "write", 200, 200},
		{"POST", b + "/keys", `{"keys":[{"name":"gate/colour","kind":"text","default":""}]}`, "write", 200, 403},
		{"POST", b + "/keys", `{"keys":[{"name":"tank/declared","kind":"int","default":0}],"change":true}`, "own", 200, 200},
		{"POST", b + "/keys", `{"closed":false}`, "own", 200, 403},
		{"DELETE", b + "/keys/tank/declared", "", "own", 204, 204},
		{"DELETE", b + "/keys/gate/declared", "", "own", 204, 403},
		{"GET", b, "", "read", 200, 200},
		{"GET", b + "/tokens", "", "own", 200, 200},
		{"POST", b + "/tokens", `{"may":"read","prefix":"tank/"}`, "own", 201, 201},
		{"POST", b + "/tokens", `{"may":"own","prefix":"tank/x/"}`, "own", 201, 201},
		{"POST", b + "/tokens", `{"may":"read"}`, "own", 201, 403},
		{"POST", b + "/tokens", `{"may":"read","prefix":"gate/"}`, "own", 201, 403},
		{"DELETE", b + "/tokens/aaaaaaaa", "", "own", 404, 404},
		{"DELETE", b + "/tokens?label=absent", "", "own", 404, 404},
		{"POST", "/v1/boards", `{"board":"b"}`, "admin", 200, 200},
		{"GET", "/v1/boards", "", "admin", 200, 200},
		{"DELETE", "/v1/boards/gone", "", "admin", 404, 404},
		{"GET", "/metrics", "", "admin", 200, 200},
	}
	tokens := map[string]string{"admin": s.admin}
	for _, may := range ranks[1:5] {
		tokens[may], _ = s.invite(s.admin, "b", `{"may":"`+may+`","label":"`+may+`"}`)
		tokens[may+" tank/"], _ = s.invite(s.admin, "b", `{"may":"`+may+`","label":"`+may+`","prefix":"tank/"}`)
	}
	elsewhere, _ := s.invite(s.admin, "other", `{"may":"own"}`)
	id, secret, _ := strings.Cut(tokens["own"], ".")
	strangers := []string{"", elsewhere, id + ".1" + secret[1:], id, id + ".", "." + secret, secret, "admin.", s.admin[:len(s.admin)-1], "x", "a/b.c", strings.Repeat("x", 5000)}

	reset := func() {
		a := s.as(s.admin, "POST", b+"/commit", `{"ops":[{"op":"reset","prefix":""},{"op":"put","name":"tank/litres","value":420},{"op":"put","name":"tank/log","value":["a","b"]},
			{"op":"put","name":"tank/kept","value":["a"]},{"op":"put","name":"gate/open","value":"hidden-value"},{"op":"put","name":"gate/count","value":1}]}`)
		require.Equal(t, 200, a.status, a.body)
		a = s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tank/declared","kind":"int","default":0},{"name":"gate/declared","kind":"int","default":0},{"name":"tank/kept","kind":"list","default":[],"keep":5}],"change":true}`)
		require.Equal(t, 200, a.status, a.body)
	}
	told := regexp.MustCompile(`"request":"[^"]*"`)
	said := map[string]string{} // the answers to outsiders about names, which must not depend on what exists
	for _, row := range rows {
		about := row.method + " " + row.path + " " + row.body
		reset()
		for who, token := range tokens {
			may, prefix, _ := strings.Cut(who, " ")
			if row.needs == "admin" && may != "admin" && who != "own" {
				continue // strangers there, of whom the answers are late
			}
			want := row.whole
			switch {
			case row.needs == "admin" && may != "admin":
				want = 401 // a token of one board is none for another board, or for the server
			case slices.Index(ranks, may) < slices.Index(ranks, row.needs):
				want = 403
			case prefix != "":
				want = row.prefixed
			}
			if row.method != "GET" && row.method != "HEAD" {
				reset()
			}
			a := s.as(token, row.method, row.path, row.body)
			assert.Equal(t, want, a.status, "%s as %s: %s", about, who, a.body)
			if a.status == 403 || a.status == 401 {
				assert.NotContains(t, a.body, "hidden-value", about)
			}
			if a.status == 403 && row.prefixed == 403 && prefix != "" && row.needs == "read" {
				said[told.ReplaceAllString(a.body, "")] = about
			}
		}
		a := s.as("", row.method, row.path, row.body)
		assert.Equal(t, 401, a.status, "%s: %s", about, a.body)
		assert.Equal(t, `Bearer realm="small-pantry"`, a.header.Get("WWW-Authenticate"))
	}
	assert.Len(t, said, 1, "outside of the prefix all is the same: %v", said)
	var asked sync.WaitGroup
	for _, token := range strangers {
		for _, path := range []string{b + "/entries/tank/litres", "/v1/boards/nowhere/entries/tank/litres"} {
			asked.Go(func() {
				a := s.as(token, "GET", path, "")
				assert.Equal(t, 401, a.status, "%.20s", token)
				assert.NotContains(t, a.body, "nowhere", "the same for a board that doesn't exist")
			})
		}
	}
	asked.Wait()
	for path, operations := range openAPI().Paths { // the description says what a call takes
		for method, op := range operations {
			if op.May == "" {
				assert.False(t, strings.HasPrefix(path, "/v1/"), path)
				continue
			}
			least := 9
			for _, row := range rows {
				if strings.EqualFold(method, row.method) && openAPI().template(row.path) == path {
					least = min(least, slices.Index(ranks, row.needs))
				}
			}
			if path != "/v1/boards/{board}/events" { // which doesn't end; see below
				require.Less(t, least, 9, "%s %s has no row", method, path)
				assert.Equal(t, ranks[least], op.May, "%s %s", method, path)
			}
		}
	}
}

// A stream is read line by line.
type events struct {
	t    testing.TB
	r    *bufio.Reader
	resp *http.Response
}

func (s *shared) stream(token, path string) *events {
	s.t.Helper()
	req, err := http.NewRequestWithContext(s.t.Context(), "GET", s.base+path, nil)
	require.NoError(s.t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { resp.Body.Close() })
	require.Equal(s.t, 200, resp.StatusCode)
	return &events{s.t, bufio.NewReader(resp.Body), resp}
}

// next returns the next line of data.
func (e *events) next() string {
	e.t.Helper()
	for {
		line, err := e.r.ReadString('\n')
		require.NoError(e.t, err)
		if strings.HasPrefix(line, "data:") {
			return line
		}
	}
}

// ends waits until the stream is over.
func (e *events) ends() { _, _ = io.Copy(io.Discard, e.r) }

// streams is how many the server says that there are.
func (s *shared) streams() string {
	found := regexp.MustCompile(`(?m)^smallpantry_streams (\S+)$`).FindStringSubmatch(s.as(s.admin, "GET", "/metrics", "").body)
	require.Len(s.t, found, 2)
	return found[1]
}
