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
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/simdisk"
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

// A token that may add starts entries that are declared, or that are within its prefix, and no others. A
// refused op refuses its whole commit, and the problem says which it was.
func TestAdding(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	const b = "/v1/boards/b"
	add, _ := s.invite(s.admin, "b", `{"may":"add","label":"tankwatch"}`)
	tank, _ := s.invite(s.admin, "b", `{"may":"add","prefix":"tank/"}`)
	one := func(name string) string { return `{"op":"add","amount":1,"name":"` + name + `"}` }
	a := s.as(add, "POST", b+"/commit", `{"ops":[`+one("beds/C4")+`]}`)
	assert.Equal(t, []any{403, "forbidden", json.Number("0")}, []any{a.status, a.code(), a.json["op"]}, a.body)
	assert.Equal(t, 201, s.as(tank, "POST", b+"/entries/tank/new", `{"op":"add","amount":1}`).status, "within its prefix")
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"beds","family":true,"kind":"int","default":0}]}`)
	assert.Equal(t, 200, s.as(add, "POST", b+"/commit", `{"ops":[`+one("beds/C4")+`]}`).status, "declared as one of a family")
	a = s.as(add, "POST", b+"/commit", `{"ops":[`+one("beds/C4")+`,`+one("tank/new")+`,`+one("not/declared")+`]}`)
	assert.Equal(t, []any{403, json.Number("2")}, []any{a.status, a.json["op"]})
	a = s.as(add, "POST", b+"/commit", `{"ops":[{"op":"put","name":"tank/new","value":9,"if":99},`+one("beds/C4")+`]}`)
	assert.Equal(t, []any{403, json.Number("0")}, []any{a.status, a.json["op"]}, "authorised before a condition is looked at")
	a = s.as(s.admin, "GET", b+"/entries", "")
	assert.Equal(t, json.Number("3"), a.json["version"], "nothing else was done")
	e := s.as(add, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, "Client-Name", "shed").json
	assert.Equal(t, "tankwatch (shed)", e["by"])
	e = s.as(tank, "POST", b+"/entries/tank/new", `{"op":"add","amount":1}`).json
	assert.Regexp(t, `^[a-z2-7]{8}$`, e["by"], "without a label the token's id")

	// A repeat under its key counts once, and only for its own token.
	key := []string{"Idempotency-Key", "k1", "Client-Instance", "phone"}
	first := s.as(add, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, key...)
	again := s.as(add, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, key...)
	assert.Equal(t, []any{first.json["value"], "true"}, []any{again.json["value"], again.header.Get("Repeated")})
	other := s.as(s.admin, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, key...)
	assert.Equal(t, []any{200, ""}, []any{other.status, other.header.Get("Repeated")})
	assert.NotEqual(t, first.json["value"], other.json["value"])
}

// A token with a prefix sees nothing else, in the answers of every call.
func TestPrefix(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	const b = "/v1/boards/b"
	s.as(s.admin, "PUT", b+"/entries/tank/litres", "1")
	s.as(s.admin, "POST", b+"/commit", `{"ops":[{"op":"put","name":"hidden/name","value":"hidden"},{"op":"put","name":"tank/litres","value":2}]}`)
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"hidden/key","kind":"int","default":0},{"name":"tank/litre","kind":"int","default":0},{"name":"hidden/colou","kind":"text","default":""}]}`)
	own, _ := s.invite(s.admin, "b", `{"may":"own","prefix":"tank/","label":"hidden-from-none"}`)
	s.invite(s.admin, "b", `{"may":"read","label":"hidden-token"}`)
	s.as(s.admin, "DELETE", b+"/entries/hidden/name", "")
	s.as(s.admin, "PUT", b+"/entries/hidden/name", "hidden")
	for _, path := range []string{"/entries", "/entries?at=3", "/history", "/keys", "", "/tokens", "/entries?names=true", "/entries?wait=0.01&since=" + s.as(own, "GET", b, "").json["mark"].(string)} {
		a := s.as(own, "GET", b+path, "")
		assert.Equal(t, 200, a.status, a.body)
		assert.NotContains(t, strings.ReplaceAll(a.body, "hidden-from-none", ""), "hidden", path)
	}
	facts := s.as(own, "GET", b, "").json
	for _, count := range []string{"entries", "bytes", "keys", "watchers", "near"} {
		assert.NotContains(t, facts, count)
	}
	assert.Equal(t, []any{"own", "tank/"}, []any{facts["may"], facts["prefix"]})
	mine, all := s.as(own, "GET", b+"/entries", ""), s.as(s.admin, "GET", b+"/entries", "")
	assert.NotEqual(t, mine.header.Get("ETag"), all.header.Get("ETag"))
	assert.Equal(t, 200, s.as(own, "GET", b+"/entries", "", "If-None-Match", all.header.Get("ETag")).status, "another's list is not mine")
	assert.Equal(t, 304, s.as(own, "GET", b+"/entries", "", "If-None-Match", mine.header.Get("ETag")).status)
	s.as(s.admin, "PUT", b+"/entries/hidden/name", "hidden again")
	assert.Equal(t, 304, s.as(own, "GET", b+"/entries", "", "If-None-Match", mine.header.Get("ETag")).status, "what he can't see is no news")
	a := s.as(own, "POST", b+"/keys", `{"keys":[{"name":"tank/hidden/colour","kind":"text","default":""},{"name":"tank/litres","kind":"int","default":0}]}`)
	assert.NotContains(t, strings.NewReplacer("tank/hidden", "", "hidden-from-none", "").Replace(a.body), "hidden", "findings")
	assert.Contains(t, a.body, "nearly matches")
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tonk/depth","kind":"int","default":0}]}`)
	a = s.as(own, "POST", b+"/keys", `{"keys":[{"name":"tank/depth","kind":"int","default":0}]}`)
	assert.NotContains(t, a.body, "tonk", "a finding names no name outside")
	assert.Contains(t, s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tinker/depth","kind":"int","default":0},{"name":"tonk/depht","kind":"int","default":0}]}`).body, "tonk/depth", "others are told")
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tamk/level","kind":"int","default":0}],"closed":true}`)
	a = s.as(own, "PUT", b+"/entries/tank/level", "1")
	assert.Equal(t, "undeclared", a.code())
	assert.NotContains(t, a.body, "tamk")

	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tank/wells","family":true,"kind":"int","default":0}]}`)
	well, _ := s.invite(s.admin, "b", `{"may":"read","prefix":"tank/wells/old/"}`)
	keys := s.as(well, "GET", b+"/keys", "").json["keys"].([]any)
	require.Len(t, keys, 1, "a family is about the names in it")
	assert.Equal(t, "tank/wells", keys[0].(map[string]any)["name"])

	events := s.stream(own, b+"/events")
	assert.NotContains(t, events.next(), "hidden")
	s.as(s.admin, "PUT", b+"/entries/hidden/name", "hidden once more")
	s.as(s.admin, "PUT", b+"/entries/tank/litres", "3")
	news := events.next()
	assert.NotContains(t, news, "hidden")
	assert.Contains(t, news, `"value":3`)
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

// Revoking a token ends new requests at once, and open ones within a second. So does its expiry.
func TestRevoking(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	const b = "/v1/boards/b"
	s.as(s.admin, "PUT", b+"/entries/tank/litres", "1")
	owner, ownerID := s.invite(s.admin, "b", `{"may":"own","label":"gatehouse"}`)
	for how, revoke := range map[string]func(id string) answer{
		"by id":    func(id string) answer { return s.as(owner, "DELETE", b+"/tokens/"+id, "") },
		"by label": func(string) answer { return s.as(owner, "DELETE", b+"/tokens?label=shed", "") },
		"with its board": func(string) answer {
			a := s.as(s.admin, "DELETE", b, "")
			s.make("b")
			return a
		},
	} {
		token, id := s.invite(s.admin, "b", `{"may":"read","label":"shed"}`)
		mark := s.as(token, "GET", b+"/entries", "").json["mark"].(string)
		stream := s.stream(token, b+"/events")
		stream.next()
		waited := make(chan answer, 1)
		go func() { waited <- s.as(token, "GET", b+"/entries?wait=30&since="+mark, "") }()
		require.Eventually(t, func() bool { return s.streams() == "2" }, 5*time.Second, 5*time.Millisecond)
		assert.Equal(t, 204, revoke(id).status, how)
		from := time.Now()
		assert.Equal(t, 401, s.as(token, "GET", b+"/entries", "").status, how)
		a := <-waited
		assert.Equal(t, 401, a.status, how+": "+a.body)
		stream.ends()
		assert.Less(t, time.Since(from), 5*time.Second, "not when the wait would have been over") // a second, on a machine that does nothing else
		if how == "with its board" {
			owner, ownerID = s.invite(s.admin, "b", `{"may":"own","label":"gatehouse"}`)
		}
	}
	ends, _ := s.invite(s.admin, "b", `{"may":"read","until":"`+time.Now().Add(400*time.Millisecond).UTC().Format(time.RFC3339Nano)+`"}`)
	stream := s.stream(ends, b+"/events")
	stream.next()
	stream.ends()
	day := time.Now().Add(24 * time.Hour).UTC().Truncate(time.Second)
	guest, _ := s.invite(s.admin, "b", `{"may":"own","until":"`+day.Format(time.RFC3339)+`"}`)
	a0 := s.as(guest, "POST", b+"/tokens", `{"may":"read"}`)
	assert.Equal(t, day.Format(time.RFC3339), a0.json["until"], "what it makes ends with it")
	assert.Equal(t, 201, s.as(guest, "POST", b+"/tokens", `{"may":"read","until":"`+day.Add(-time.Hour).Format(time.RFC3339)+`"}`).status)
	assert.Equal(t, 403, s.as(guest, "POST", b+"/tokens", `{"may":"read","until":"`+day.Add(time.Hour).Format(time.RFC3339)+`"}`).status)
	assert.Equal(t, 401, s.as(ends, "GET", b, "").status, "its time is over")

	// What a token may make and take back.
	bound, _ := s.invite(owner, "b", `{"may":"own","prefix":"tank/"}`)
	a := s.as(bound, "DELETE", b+"/tokens/"+ownerID, "")
	assert.Equal(t, 404, a.status, "one outside its prefix, which it must not learn of")
	s.invite(owner, "b", `{"may":"read","label":"pair","prefix":"tank/"}`)
	s.invite(owner, "b", `{"may":"read","label":"pair"}`)
	s.invite(owner, "b", `{"may":"read","label":"outside"}`)
	assert.Len(t, s.as(bound, "GET", b+"/tokens", "").json["tokens"], 2, "itself, and the one within its prefix")
	assert.Equal(t, s.as(bound, "DELETE", b+"/tokens?label=absent", "").json["detail"], s.as(bound, "DELETE", b+"/tokens?label=outside", "").json["detail"])
	assert.Equal(t, 204, s.as(bound, "DELETE", b+"/tokens?label=pair", "").status, "the one within its prefix")
	assert.Len(t, s.as(bound, "GET", b+"/tokens", "").json["tokens"], 1)
	assert.Equal(t, 204, s.as(owner, "DELETE", b+"/tokens?label=pair", "").status)
	assert.Equal(t, 404, s.as(owner, "DELETE", b+"/tokens?label=pair", "").status)
	second, _ := s.invite(owner, "b", `{"may":"own"}`)
	assert.Equal(t, 204, s.as(second, "DELETE", b+"/tokens/"+ownerID, "").status, "two owners may revoke each other")
	assert.Equal(t, 401, s.as(owner, "POST", b+"/tokens", `{"may":"read"}`).status)
	for body, code := range map[string]string{
		`{"may":"all"}`: "invalid", `{}`: "invalid", `{"may":"read","labl":"x"}`: "invalid", `{"may":"read","may":"own"}`: "invalid", `[]`: "invalid",
		`{"may":"read","prefix":"tank"}`: "invalid", `{"may":"read","prefix":"/"}`: "invalid", `{"may":"read","label":"a\nb"}`: "invalid",
		`{"may":"read","label":"` + strings.Repeat("x", 65) + `"}`: "invalid", `{"may":"read","until":"2020-01-01T00:00:00Z"}`: "invalid", `{"may":"read","until":"soon"}`: "invalid", `{"may":"read","label":"admin"}`: "invalid",
	} {
		assert.Equal(t, code, s.as(s.admin, "POST", b+"/tokens", body).code(), body)
	}
	assert.Equal(t, "no-board", s.as(s.admin, "POST", "/v1/boards/nowhere/tokens", `{"may":"read"}`).code())
	assert.Equal(t, "invalid", s.as(s.admin, "DELETE", b+"/tokens", "").code())
	assert.Equal(t, "invalid", s.as(s.admin, "POST", b+"/tokens?qr=true", `{"may":"read"}`).code())

	// Over a restart all is as it was.
	reader, _ := s.invite(s.admin, "b", `{"may":"read"}`)
	s.stop()
	s = startShared(t, server.Options{Data: s.data})
	assert.Equal(t, 200, s.as(reader, "GET", b, "").status)
	assert.Equal(t, 401, s.as(owner, "GET", b, "").status)
}

// streams is how many the server says that there are.
func (s *shared) streams() string {
	found := regexp.MustCompile(`(?m)^smallpantry_streams (\S+)$`).FindStringSubmatch(s.as(s.admin, "GET", "/metrics", "").body)
	require.Len(s.t, found, 2)
	return found[1]
}

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

// The owner's link is the same at each start, until it is revoked or the admin is another.
func TestOwnerLink(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	link := func(made bool) string {
		srv, err := server.New(server.Options{Data: data, Public: "https://pantry.example/", Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		defer srv.Close()
		assert.Equal(t, filepath.Join(data, "admin-token"), srv.AdminPath())
		l, new, err := srv.OwnerLink(t.Context(), "rowan-street")
		require.NoError(t, err)
		assert.Equal(t, made, new)
		return l
	}
	none, err := server.New(server.Options{Data: t.TempDir(), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	_, _, err = none.OwnerLink(t.Context(), "rowan-street")
	assert.ErrorIs(t, err, server.ErrPublic)
	require.NoError(t, none.Close())
	first := link(true)
	assert.Regexp(t, `^https://pantry\.example/boards/rowan-street#[a-z2-7]{8}\.[a-z2-7]{26}$`, first)
	assert.Equal(t, first, link(false))
	s := startShared(t, server.Options{Data: data})
	_, token, _ := strings.Cut(first, "#")
	assert.Equal(t, "own", s.as(token, "GET", "/v1/boards/rowan-street", "").json["may"])
	assert.Equal(t, 204, s.as(token, "DELETE", "/v1/boards/rowan-street/tokens/"+token[:8], "").status)
	s.stop()
	second := link(false)
	assert.NotEqual(t, first, second, "one that was revoked stays so")
	require.NoError(t, os.Remove(filepath.Join(data, "admin-token")))
	assert.NotEqual(t, second, link(false))
	s = startShared(t, server.Options{Data: data})
	_, token, _ = strings.Cut(second, "#")
	assert.Equal(t, 200, s.as(token, "GET", "/v1/boards/rowan-street", "").status, "an old admin's links stay, until they are revoked")
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
	require.Eventually(t, func() bool { return s.streams() == "0" }, 5*time.Second, 5*time.Millisecond)
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

// The admin token that a server draws is there after a power cut: owners' links depend on it. The test
// replaces the disk of all tests, so none runs beside it.
func TestAdminTokenIsSynced(t *testing.T) {
	data := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(data, "boards"), 0o700)) // whose making syncs DATA too
	require.NoError(t, os.Mkdir(filepath.Join(data, "access"), 0o700))
	disk := &simdisk.DirRecorder{Disk: journal.OS}
	journal.OS = disk
	defer func() { journal.OS = disk.Disk }()
	for _, want := range []bool{true, false} { // where there is one it stays
		disk.Synced = nil
		srv, err := server.New(server.Options{Data: data, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		require.NoError(t, srv.Close())
		assert.Equal(t, want, slices.Contains(disk.Synced, data))
	}
}

// A request whose token is revoked while its body arrives is answered 401, also if it has other faults.
func TestRevokedWhileTheBodyArrives(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{})
		s.make("b")
		token, id := s.invite(s.admin, "b", `{"may":"write"}`)
		const body = `{"ops":[{"op":"nonsense"}]}`
		conn := s.raw(token, "POST", "/v1/boards/b/commit", len(body), body[:10])
		synctest.Wait() // the server has authorised the request and waits for the rest
		require.Equal(t, 204, s.as(s.admin, "DELETE", "/v1/boards/b/tokens/"+id, "").status)
		_, err := conn.Write([]byte(body[10:]))
		require.NoError(t, err)
		code, header := status(t, conn)
		assert.Equal(t, 401, code)
		assert.NotEmpty(t, header.Get("WWW-Authenticate"))
		require.NoError(t, conn.Close())
	})
}
