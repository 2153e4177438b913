package server_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A request counts once, however often it comes under its key, also over a restart.
func TestReceipts(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, stop := start(t, data)
	const phone = "0123456789abcdef0123456789abcdef"
	at := func(path string) string { return base + "/v1/boards/b" + path }
	under := func(key string) []string {
		return []string{"Content-Type", typeJSON, "Idempotency-Key", key, "Client-Instance", phone}
	}
	type call struct {
		method, path, body string
		status             int
	}
	calls := map[string]call{
		"add":    {"POST", "/entries/n", `{"op":"add","amount":5}`, 201},
		"put":    {"PUT", "/entries/gate/open", `true`, 201},
		"append": {"POST", "/commit", `{"ops":[{"op":"append","name":"q","item":"C4"},{"op":"append","name":"q","item":"B2"},{"op":"add","name":"n","amount":0}]}`, 200},
		"take":   {"POST", "/entries/q", `{"op":"take","at":0}`, 200},
		"reset":  {"POST", "/commit", `{"ops":[{"op":"reset","prefix":"gate/"}]}`, 200},
		"drop":   {"DELETE", "/entries/q", ``, 204},
	}
	first := map[string]answer{}
	for _, key := range []string{"add", "put", "append", "take", "reset", "drop"} {
		c := calls[key]
		a := ask(t, c.method, at(c.path), c.body, under(key)...)
		require.Equal(t, c.status, a.status, a.body)
		assert.Empty(t, a.header.Get("Repeated"))
		first[key] = a
	}
	again := func(when string) {
		for key, c := range calls {
			a := ask(t, c.method, at(c.path), c.body, under(`"`+key+`"`)...)
			assert.Equal(t, []any{c.status, "true"}, []any{a.status, a.header.Get("Repeated")}, "%s, %s: %s", key, when, a.body)
			assert.Equal(t, first[key].json["results"], a.json["results"], "%s, %s", key, when)
			assert.Equal(t, first[key].json["taken"], a.json["taken"], "%s, %s", key, when)
			assert.Equal(t, first[key].json["changed"], a.json["changed"], "%s, %s", key, when)
		}
	}
	again("at once")
	a := ask(t, "POST", at("/entries/n"), calls["add"].body, under("add")...)
	assert.Equal(t, json.Number("5"), a.json["value"], "counted once")
	ask(t, "POST", at("/entries/n"), `{"op":"add","amount":1}`)
	a = ask(t, "POST", at("/entries/n"), calls["add"].body, under("add")...)
	assert.Equal(t, []any{json.Number("6"), true}, []any{a.json["value"], a.json["changed"]}, "as it is by now")
	a = ask(t, "POST", at("/entries/q"), calls["take"].body, under("take")...)
	assert.Equal(t, []any{"C4", nil, "q"}, []any{a.json["taken"], a.json["value"], a.json["name"]}, "what it took, of a list that is gone by now")
	a = ask(t, "POST", at("/commit"), calls["reset"].body, under("reset")...)
	assert.Equal(t, []any{map[string]any{"name": "gate/open", "version": json.Number("5")}}, a.json["gone"])
	assert.Nil(t, a.json["since"], "it does not tell all that changed since")

	for name, c := range map[string]struct{ method, path, body, key string }{
		"another amount": {"POST", "/entries/n", `{"op":"add","amount":6}`, "add"},
		"another name":   {"POST", "/entries/m", calls["add"].body, "add"},
		"another call":   {"PUT", "/entries/n", `5`, "add"},
		"a condition":    {"PUT", "/entries/gate/open", `false`, "put"},
	} {
		assert.Equal(t, "key-reused", ask(t, c.method, at(c.path), c.body, under(c.key)...).code(), name)
	}
	assert.Equal(t, "key-reused", ask(t, "PUT", at("/entries/gate/open"), "true", append(under("put"), "If-None-Match", "*")...).code())
	other := ask(t, "POST", at("/entries/n"), calls["add"].body, "Content-Type", typeJSON, "Idempotency-Key", "add", "Client-Instance", "another phone")
	assert.Equal(t, json.Number("11"), other.json["value"], "another phone's keys are its own")

	// What was refused, and what changed nothing, left no trace.
	assert.Equal(t, "wrong-kind", ask(t, "POST", at("/entries/n"), `{"op":"append","item":1}`, under("later")...).code())
	assert.Equal(t, false, ask(t, "POST", at("/entries/n"), `{"op":"raise","to":1}`, under("later")...).json["changed"])
	assert.Equal(t, json.Number("12"), ask(t, "POST", at("/entries/n"), `{"op":"add","amount":1}`, under("later")...).json["value"])

	stop()
	base, _ = start(t, data)
	again("after a restart")
	for _, key := range []string{"", `""`, "a\tb", strings.Repeat("k", 201)} {
		a := ask(t, "PUT", at("/entries/x"), "1", "Idempotency-Key", key)
		assert.Equal(t, "invalid", a.code(), "%q", key)
	}
	assert.Equal(t, "invalid", ask(t, "PUT", at("/entries/x"), "1", "Idempotency-Since", "1.5a3f9c10").code(), "without a key")
	assert.Equal(t, "invalid", ask(t, "PUT", at("/entries/x"), "1", "Idempotency-Key", "k", "Idempotency-Since", "1").code())
}

// A repeat is refused if it is no longer known whether the first was done.
func TestTooLate(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b/entries"
	const phone = "0123456789abcdef0123456789abcdef"
	mark := func() string { return ask(t, "GET", at, "").json["mark"].(string) }
	ask(t, "PUT", at+"/n", "0")
	before := mark()
	add := func(key, since string) answer {
		headers := []string{"Idempotency-Key", key, "Client-Instance", phone}
		if since != "" {
			headers = append(headers, "Idempotency-Since", since)
		}
		return ask(t, "POST", at+"/n", `{"op":"add","amount":1}`, headers...)
	}
	for i := range 1000 {
		require.Equal(t, 200, add(fmt.Sprint(i), before).status)
	}
	assert.Equal(t, "true", add("0", before).header.Get("Repeated"))
	assert.Equal(t, 200, add("1000", mark()).status, "it pushes out the oldest receipt of its phone")
	assert.Equal(t, "too-late", add("0", before).code())
	assert.Equal(t, "true", add("1", before).header.Get("Repeated"))
	assert.Equal(t, "too-late", add("new", "1.00000000").code(), "an unknown mark")
	assert.Equal(t, "too-late", add("new", "1001.00000000").code())
	assert.Equal(t, json.Number("1001"), ask(t, "GET", at+"/n", "").json["value"])
	a := ask(t, "POST", at+"/n", `{"op":"add","amount":1}`, "Idempotency-Key", "x", "Client-Instance", "another phone", "Idempotency-Since", before)
	assert.Equal(t, json.Number("1002"), a.json["value"], "a busy phone pushes out its own alone")
	assert.Equal(t, json.Number("1003"), add("0", "").json["value"], "who doesn't say when it was sent first is taken at his word")
}
