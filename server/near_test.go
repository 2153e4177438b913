package server_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/server"
)

// findings returns the findings of an answer as NAME~NEAR (BY).
func findings(page map[string]any) (out []string) {
	list, _ := page["findings"].([]any)
	for _, one := range list {
		f := one.(map[string]any)
		out = append(out, fmt.Sprintf("%v~%v (%v)", f["name"], f["near"], f["by"]))
	}
	return out
}

// Every answer about an absent name reports the names that it nearly matches, and so does a write that
// creates one.
func TestNearNames(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	owner, _ := s.invite(s.admin, "b", `{"may":"own","label":"gatehouse"}`)
	phone, _ := s.invite(owner, "b", `{"may":"write","label":"phone","prefix":"tank/"}`)
	at := "/v1/boards/b"
	require.Equal(t, 201, s.as(owner, "PUT", at+"/entries/tank/litres", "420").status)
	require.Equal(t, 201, s.as(owner, "PUT", at+"/entries/tank-litres", "1").status)
	require.Equal(t, 200, s.as(owner, "POST", at+"/keys", `{"keys":[{"name":"hose/queue","kind":"list"}]}`, "Content-Type", typeJSON).status)

	for _, c := range []struct{ token, name, near string }{
		{owner, "tank/Litre", "[tank/litres]"},
		{owner, "tank/litre", "[tank/litres]"},
		{owner, "hose/queues", "[hose/queue]"},
		{owner, "hose/queue", "<nil>"}, // declared, so absent is right
		{owner, "watered/B4", "<nil>"},
		{owner, "TANK/LITRES", "[tank-litres tank/litres]"},
		{owner, "tank/li_tres", "[tank-litres tank/litres]"},
		{phone, "tank/li_tres", "[tank/litres]"}, // the other one is outside of its prefix
	} {
		a := s.as(c.token, "GET", at+"/entries/"+c.name, "")
		assert.Equal(t, []any{404, c.near}, []any{a.status, fmt.Sprint(a.json["near"])}, "%s: %s", c.name, a.body)
	}
	a := s.as(phone, "GET", at+"/entries/hose/queues", "")
	assert.Equal(t, []any{403, nil}, []any{a.status, a.json["near"]}, "a 403 says nothing about names")

	a = s.as(owner, "GET", at+"/entries?name=tank/Litre&name=tank/litres&name=hose/queues", "")
	assert.Equal(t, []string{"hose/queues~hose/queue (gatehouse)", "tank/Litre~tank/litres (gatehouse)"}, findings(a.json), a.body)
	assert.Empty(t, findings(s.as(owner, "GET", at+"/entries?name=tank/litres", "").json))

	mark := a.json["mark"].(string)
	delta := s.as(owner, "GET", at+"/entries?name=tank/Litre&since="+mark, "")
	assert.Empty(t, findings(delta.json), "once, with the first answer")
	tag := a.header.Get("ETag")
	url := at + "/entries?name=tank/Litre&name=tank/litres&name=hose/queues"
	assert.Equal(t, 304, s.as(owner, "GET", url, "", "If-None-Match", tag).status)
	require.Equal(t, 201, s.as(owner, "PUT", at+"/entries/tank/Litres", "1").status)
	a = s.as(owner, "GET", url, "", "If-None-Match", tag)
	assert.Equal(t, 200, a.status)
	assert.Contains(t, findings(a.json), "tank/Litre~tank/Litres (gatehouse)", "a name that appeared since: %s", a.body)
	a = s.as(owner, "GET", url+"&since="+mark, "")
	assert.Equal(t, []string{"tank/Litre~tank/Litres (gatehouse)"}, findings(a.json), "only the new one")

	// Writes that create such a name.
	a = s.as(owner, "PUT", at+"/entries/gate/opened", "true")
	assert.Empty(t, findings(a.json), a.body)
	a = s.as(owner, "PUT", at+"/entries/gate/openned", "true")
	assert.Equal(t, []string{"gate/openned~gate/opened (gatehouse)"}, findings(a.json), a.body)
	assert.Empty(t, findings(s.as(owner, "PUT", at+"/entries/gate/openned", "false").json), "it exists by now")
	a = s.as(owner, "POST", at+"/entries/frost/warnings", `{"op":"add","amount":1}`)
	assert.Empty(t, findings(a.json))
	a = s.as(owner, "POST", at+"/entries/frost/warning", `{"op":"add","amount":1}`)
	assert.Equal(t, []string{"frost/warning~frost/warnings (gatehouse)"}, findings(a.json), a.body)
	a = s.as(owner, "POST", at+"/commit", `{"ops":[{"op":"put","name":"hose/queues","value":[]},{"op":"put","name":"hose/queue","value":[]},{"op":"put","name":"watered/C4","value":1}]}`)
	assert.Equal(t, []string{"hose/queues~hose/queue (gatehouse)"}, findings(a.json), "a declared name is right: %s", a.body)
	a = s.as(phone, "PUT", at+"/entries/tank/li_tres", "3")
	assert.Contains(t, findings(a.json), "tank/li_tres~tank/litres (gatehouse)", a.body)
	assert.NotContains(t, a.body, "tank-litres", "outside of its prefix")
}

// A stream has findings with its first page, and later ones of names that appear.
func TestNearNamesInStreams(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		base, _ := inMemory(t, server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
		at := base + "/v1/boards/b/entries/"
		require.Equal(t, 201, ask(t, "PUT", at+"tank/litres", "420").status)
		s := streamed(t, base, "/v1/boards/b/events?name=tank/Litre&name=hose/queues&beat=5")
		first := s.event()
		assert.Equal(t, []string{"tank/Litre~tank/litres (<nil>)"}, findings(first.page))
		require.Equal(t, 201, ask(t, "PUT", at+"hose/queue", "[]").status)
		begun := time.Now()
		second := s.event()
		assert.Equal(t, []string{"hose/queues~hose/queue (<nil>)"}, findings(second.page))
		assert.LessOrEqual(t, time.Since(begun), 6*time.Second, "with the next beat")
	})
}

// A quiet stream sends the mark alone when other entries have changed, so that a client that connects
// again does not read them.
func TestMarkOfAQuietStream(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		base, _ := inMemory(t, server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
		at := base + "/v1/boards/b/entries/"
		require.Equal(t, 201, ask(t, "PUT", at+"tank/litres", "420").status)
		s := streamed(t, base, "/v1/boards/b/events?name=tank/litres&beat=5")
		first := s.event()
		assert.Equal(t, ":", s.line(), "nothing has changed")
		require.Equal(t, 201, ask(t, "PUT", at+"gate/open", "true").status)
		moved := s.line()
		mark := ask(t, "GET", base+"/v1/boards/b", "").json["mark"].(string)
		assert.Equal(t, "id: "+mark, moved)
		assert.NotEqual(t, first.id, mark)
		assert.Equal(t, ":", s.line(), "once")
		require.Equal(t, 200, ask(t, "PUT", at+"tank/litres", "430").status)
		next := s.event()
		assert.Equal(t, mark, next.page["since"])
	})
}

// A lines reads the lines of a stream that have content.
type lines struct {
	t  *testing.T
	in *bufio.Reader
}

func streamed(t *testing.T, base, path string) *lines {
	t.Helper()
	conn := dial(t, base)
	_, err := fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: %s\r\n\r\n", path, strings.TrimPrefix(base, "http://"))
	require.NoError(t, err)
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	require.Equal(t, 200, resp.StatusCode)
	l := &lines{t, bufio.NewReader(resp.Body)}
	require.Equal(t, "retry: 2000", l.line())
	t.Cleanup(func() { conn.Close() })
	return l
}

func (l *lines) line() string {
	l.t.Helper()
	for {
		line, err := l.in.ReadString('\n')
		require.NoError(l.t, err)
		if line = strings.TrimSuffix(line, "\n"); line != "" {
			return line
		}
	}
}

// event returns the next event with data.
func (l *lines) event() (e event) {
	l.t.Helper()
	for {
		line := l.line()
		if id, is := strings.CutPrefix(line, "id: "); is {
			e.id = id
		} else if data, is := strings.CutPrefix(line, "data: "); is {
			require.NoError(l.t, json.Unmarshal([]byte(data), &e.page))
			return e
		}
	}
}

// A put reports what it replaced without having seen it, and nothing else.
func TestReplaced(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	const shed, phone = "shed-instance", "phone-instance"
	put := func(by, value string, more ...string) answer {
		return ask(t, "PUT", at+"/entries/gate/state", value, append([]string{"Client-Instance", by, "Client-Name", by, "Content-Type", typeJSON}, more...)...)
	}
	first := put(shed, `"open"`)
	require.Equal(t, 201, first.status)
	tag := first.header.Get("ETag")
	replaced := func(a answer) string {
		r, _ := a.json["replaced"].(map[string]any)
		if r == nil {
			return ""
		}
		return fmt.Sprint(r["value"], " ", r["version"], " ", r["by"])
	}
	assert.Equal(t, "open 1 shed-instance", replaced(put(phone, `"shut"`, "Seen", "0")), "it had seen nothing")
	assert.Empty(t, replaced(put(phone, `"ajar"`, "Seen", "0")), "its own value")
	assert.Equal(t, "ajar 3 phone-instance", replaced(put(shed, `"open"`, "Seen", tag)), "it had seen version 1")
	assert.Empty(t, replaced(put(phone, `"shut"`, "Seen", `"4"`)), "it had seen it")
	assert.Empty(t, replaced(put(shed, `"shut"`, "Seen", "0")), "the same value")
	assert.Empty(t, replaced(put(shed, `"open"`)), "without the header")
	assert.Equal(t, 400, put(shed, `"open"`, "Seen", "yesterday").status)

	// In a commit, and again in its repeat, with the value from the history.
	ops := `{"ops":[{"op":"put","name":"gate/state","value":"ajar","seen":%s},{"op":"put","name":"gate/state","value":"shut","seen":0},{"op":"put","name":"new","value":1,"seen":0}]}`
	commit := func(seen string) answer {
		return ask(t, "POST", at+"/commit", fmt.Sprintf(ops, seen), "Content-Type", typeJSON, "Client-Instance", phone, "Idempotency-Key", "k")
	}
	a := commit("0")
	results := func(a answer) string { return fmt.Sprint(a.json["results"]) }
	assert.Contains(t, results(a), "value:open version:6")
	assert.Equal(t, 1, strings.Count(results(a), "replaced"), "one op of an entry: %s", a.body)
	again := commit(`"5"`)
	assert.Equal(t, "true", again.header.Get("Repeated"))
	assert.Equal(t, a.json["results"], again.json["results"], "seen is outside of the receipt's hash")
	assert.Equal(t, 400, ask(t, "POST", at+"/commit", `{"ops":[{"op":"add","name":"n","amount":1,"seen":0}]}`).status, "only a put has it")
	assert.Equal(t, 400, commit(`"x"`).status)
}

// A repeated request for a token makes no second one.
func TestTokenOnce(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	ask := func(key, body string) answer {
		return s.as(s.admin, "POST", "/v1/boards/b/tokens", body, "Idempotency-Key", key)
	}
	count := func() int {
		return len(s.as(s.admin, "GET", "/v1/boards/b/tokens", "").json["tokens"].([]any))
	}
	before := count()
	first := ask("k", `{"may":"read","label":"shed"}`)
	require.Equal(t, 201, first.status, first.body)
	again := ask("k", `{"may":"read","label":"shed"}`)
	require.Equal(t, 201, again.status, again.body)
	assert.NotEqual(t, first.json["token"], again.json["token"])
	assert.Equal(t, before+1, count())
	assert.Equal(t, 401, s.as(first.json["token"].(string), "GET", "/v1/boards/b", "").status)
	assert.Equal(t, "key-reused", ask("k", `{"may":"write","label":"shed"}`).code())
	assert.Equal(t, 200, s.as(again.json["token"].(string), "GET", "/v1/boards/b", "").status)
	late := ask("k", `{"may":"read","label":"shed"}`)
	assert.Equal(t, []any{409, "too-late"}, []any{late.status, late.code()}, "it is in use: %s", late.body)
	assert.Equal(t, 200, s.as(again.json["token"].(string), "GET", "/v1/boards/b", "").status)
	assert.Equal(t, 201, ask("other", `{"may":"read","label":"shed"}`).status)
	assert.Equal(t, 400, ask("ü", `{"may":"read"}`).status)
}
