package server_test

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCommit(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	commit := func(ops string) answer {
		return ask(t, "POST", base+"/v1/boards/b/commit", `{"ops":[`+ops+`]}`, "Content-Type", typeJSON)
	}
	a := commit(`{"op":"put","name":"gate/open","value":true},{"op":"add","name":"n","amount":2},{"op":"add","name":"n","amount":3}`)
	require.Equal(t, 200, a.status, a.body)
	assert.Equal(t, json.Number("1"), a.json["version"])
	assert.Len(t, a.json["entries"], 2)
	for ops, code := range map[string]string{
		`{"op":"put","name":"x","value":1},{"op":"drop","name":"absent"}`:              "absent",
		`{"op":"put","name":"x","value":1},{"op":"add","name":"gate/open","amount":1}`: "wrong-kind",
		`{"op":"put","name":"x","value":1},{"op":"drop","name":"n","if":7}`:            "conflict",
		`{"op":"put","name":"n","value":1,"if":0}`:                                     "conflict",
		`{"op":"put","name":"x","value":1},{"op":"put","name":"n","value":"a"}`:        "wrong-kind",
		`{"op":"put","name":"x"}`:                       "invalid",
		`{"op":"put","name":"x","value":1,"kid":"int"}`: "invalid",
		`{"op":"reset"}`:                                "invalid",
		`{"op":"put","name":"a//b","value":1}`:          "invalid",
		``:                                              "invalid",
		strings.Repeat(`{"op":"put","name":"x","value":1},`, 1000) + `{"op":"drop","name":"x"}`: "invalid",
	} {
		assert.Equal(t, code, commit(ops).code(), "%.100s", ops)
	}
	assert.Equal(t, "absent", ask(t, "GET", base+"/v1/boards/b/entries/x", "").code(), "all or none")
	a = commit(`{"op":"put","name":"n","value":"five","kind":"text","if":1},{"op":"reset","prefix":"gate/"}`)
	assert.Equal(t, 200, a.status, a.body)
	assert.Equal(t, []any{map[string]any{"name": "gate/open", "version": json.Number("2")}}, a.json["gone"])
}

func TestList(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	board := base + "/v1/boards/b"
	list := func(query string, headers ...string) answer {
		return ask(t, "GET", board+"/entries"+query, "", headers...)
	}
	names := func(a answer) string {
		var out []string
		for _, e := range a.json["entries"].([]any) {
			out = append(out, e.(map[string]any)["name"].(string))
		}
		for _, g := range a.json["gone"].([]any) {
			out = append(out, "-"+g.(map[string]any)["name"].(string))
		}
		return strings.Join(out, " ")
	}
	a := list("")
	assert.Equal(t, 200, a.status, "an unknown board reads as empty")
	assert.Empty(t, names(a))
	for i, name := range []string{"b", "a/2", "a/1", "a", "ab"} {
		ask(t, "PUT", board+"/entries/"+name, fmt.Sprint(i))
	}
	a = list("")
	assert.Equal(t, "a a/1 a/2 ab b", names(a), "in byte order")
	assert.Equal(t, json.Number("5"), a.json["version"])
	mark := a.json["mark"].(string)
	tag := a.header.Get("ETag")
	assert.Equal(t, 304, list("", "If-None-Match", tag).status)
	assert.Equal(t, 200, list("?prefix=a/", "If-None-Match", tag).status, "another query is another list")
	assert.Equal(t, "a/1 a/2", names(list("?prefix=a/")))
	assert.Equal(t, "a b", names(list("?name=b&name=a&name=nothing")))
	assert.Equal(t, "a/1 a/2", names(list("?limit=2&after=a")))
	assert.Equal(t, "a/2", list("?limit=2&after=a").json["next"])
	assert.NotContains(t, list("?names=true").body, "value")

	ask(t, "DELETE", board+"/entries/a", "")
	ask(t, "PUT", board+"/entries/b", "9")
	a = list("?since="+mark, "If-None-Match", tag)
	assert.Equal(t, 200, a.status)
	assert.Equal(t, "b -a", names(a), "only what changed")
	assert.Equal(t, false, a.json["whole"])
	next := a.json["mark"].(string)
	assert.Empty(t, names(list("?since="+next)))
	assert.Equal(t, mark, list("?since=" + next + "&since=" + mark).json["since"], "the oldest of several")
	assert.Equal(t, "b -a", names(list("?since="+mark+"&since="+next)))
	a = list("?prefix=a/", "If-None-Match", list("?prefix=a/&since="+mark).header.Get("ETag"))
	assert.Equal(t, 304, a.status)
	assert.Contains(t, a.header.Get("ETag"), next, "a 304 moves the mark on")
	assert.Equal(t, 304, list("?name=ab&prefix=a/", "If-None-Match", strings.Replace(list("?name=ab&prefix=a/").header.Get("ETag"), next, mark, 1)).status, "judged like since: nothing of it changed since the older one")
	assert.Equal(t, "a/1 a/2 ab", names(list("?name=ab&prefix=a/")), "names and prefixes together")
	assert.Equal(t, "a/1 a/2 b", names(list("?prefix=b&prefix=a/")))
	for _, since := range []string{"5.00000000", "99.5a3f9c10", mark + "&since=99.5a3f9c10"} {
		a := list("?since=" + since)
		assert.Equal(t, true, a.json["whole"], since)
		assert.Equal(t, "a/1 a/2 ab b", names(a))
	}
	assert.Equal(t, "start-again", list("?since=5.00000000&after=a").code())
	assert.Equal(t, "b", names(list("?since="+mark+"&after=a")))
	for _, query := range []string{"?limit=0", "?limit=10001", "?wait=61", "?wait=soon", "?since=x", "?since=5", "?since=5.xyz", "?since=05.5a3f9c10", "?name=a//b", "?names=maybe", "?prefx=a", "?limit=1&limit=2", "?wait=1&wait=2", "?after=a&after=b", "?since=", "?limit=", "?wait=", "?names="} {
		assert.Equal(t, "invalid", list(query).code(), query)
	}
}

// A version from before what can still be told gets the whole.
func TestSinceBeforeOldest(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, stop := start(t, data)
	board := base + "/v1/boards/b"
	for i := range 3 {
		ask(t, "PUT", board+"/entries/a", fmt.Sprint(i))
	}
	mark := ask(t, "GET", board+"/entries", "").json["mark"].(string)
	stop()
	l, err := ledger.Open(filepath.Join(data, "boards"), "b", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, l.Forget())
	require.NoError(t, l.Close())
	base, _ = start(t, data)
	assert.Equal(t, true, ask(t, "GET", base+"/v1/boards/b/entries?since="+mark, "").json["whole"], "what is forgotten takes all marks along")
}

// A page is bounded by its bytes too, and the pages together are the list.
func TestPages(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	board := base + "/v1/boards/b"
	large := strings.Repeat("x", 900<<10)
	for i := range 8 {
		require.Equal(t, 201, ask(t, "PUT", fmt.Sprint(board, "/entries/n", i), large).status)
	}
	var names []string
	pages, after := 0, ""
	tags := map[string]bool{}
	for {
		a := ask(t, "GET", board+"/entries?after="+after, "")
		assert.LessOrEqual(t, len(a.body), 4<<20)
		tag := a.header.Get("ETag")
		assert.False(t, tags[tag], "another page has another tag")
		tags[tag] = true
		assert.Equal(t, 304, ask(t, "GET", board+"/entries?after="+after, "", "If-None-Match", tag).status)
		assert.Equal(t, 200, ask(t, "GET", board+"/entries?after="+after+"x", "", "If-None-Match", tag).status)
		for _, e := range a.json["entries"].([]any) {
			names = append(names, e.(map[string]any)["name"].(string))
		}
		pages++
		if a.json["next"] == nil {
			break
		}
		after = a.json["next"].(string)
	}
	assert.Equal(t, "n0 n1 n2 n3 n4 n5 n6 n7", strings.Join(names, " "))
	assert.Greater(t, pages, 1)
}

// What can't be read as a condition or a filter must not be passed over.
func TestNothingIsPassedOver(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b/entries/a"
	ask(t, "PUT", at, "1")
	for _, c := range []struct{ method, path, header, value string }{
		{"PUT", "/a", "If-Match", ""}, {"PUT", "/a", "If-Match", `""`}, {"PUT", "/a", "If-None-Match", " "}, {"DELETE", "/a", "If-Match", `"1",`}, {"GET", "/a", "If-None-Match", ""},
		{"GET", "?name=%zz", "", ""}, {"GET", "?name=a;b", "", ""}, {"GET", "?nam=a", "", ""}, {"GET", "/a?x=1", "", ""}, {"PUT", "/a?kind=", "", ""}, {"PUT", "/a?as=", "", ""}, {"DELETE", "/a?forget=", "", ""}, {"DELETE", "/a?x=1", "", ""}, {"PUT", "/a?as=int;kind=text", "", ""},
	} {
		headers := []string{}
		if c.header != "" {
			headers = append(headers, c.header, c.value)
		}
		a := ask(t, c.method, base+"/v1/boards/b/entries"+c.path, "2", headers...)
		assert.Equal(t, "invalid", a.code(), "%+v: %s", c, a.body)
	}
	for _, tag := range []string{`W/"1"`, `"abc"`, `"0"`, `"1-5"`, `2`} {
		assert.Equal(t, "conflict", ask(t, "PUT", at, "2", "If-Match", tag).code(), tag)
	}
	assert.Equal(t, json.Number("1"), ask(t, "GET", at, "").json["value"])
	a := ask(t, "POST", base+"/v1/boards/b/commit", `{"ops":[{"op":"drop","name":"a","name":"b"}]}`)
	assert.Equal(t, []any{"invalid", json.Number("0")}, []any{a.code(), a.json["op"]})
	a = ask(t, "POST", base+"/v1/boards/b/commit", `{"ops":[{"op":"add","name":"a","amount":1},{"op":"take","name":"a","at":0}]}`)
	assert.Equal(t, []any{"wrong-kind", json.Number("1")}, []any{a.code(), a.json["op"]}, "a refusal says which op it is about")
	assert.Nil(t, ask(t, "POST", at, `{"op":"take","at":0}`).json["op"])
	assert.Equal(t, "invalid", ask(t, "POST", base+"/v1/boards/b/commit", `{"ops":[],"opps":[]}`).code())
}

func TestWait(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testWait)
}

func testWait(t *testing.T) {
	base, stop := inMemory(t, server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
	board := base + "/v1/boards/b"
	ask(t, "PUT", board+"/entries/a", "1")
	a := ask(t, "GET", board+"/entries", "")
	mark, tag := a.json["mark"].(string), a.header.Get("ETag")
	got := make(chan answer, 2)
	go func() {
		got <- ask(t, "GET", board+"/entries?name=a&wait=30&since="+mark, "", "If-None-Match", tag)
	}()
	ask(t, "PUT", board+"/entries/other", "1")
	ask(t, "PUT", board+"/entries/a", "2")
	a = <-got
	assert.Equal(t, 200, a.status)
	assert.Equal(t, json.Number("2"), a.json["entries"].([]any)[0].(map[string]any)["value"])
	mark = a.json["mark"].(string)
	a = ask(t, "GET", board+"/entries?wait=0.001&since="+mark, "")
	assert.Equal(t, 200, a.status)
	assert.Empty(t, a.json["entries"], "without news and condition: nothing")
	assert.Equal(t, 304, ask(t, "GET", board+"/entries?wait=0.001&since="+mark, "", "If-None-Match", a.header.Get("ETag")).status)
	assert.Equal(t, 304, ask(t, "GET", board+"/entries?wait=0.001", "", "If-None-Match", ask(t, "GET", board+"/entries", "").header.Get("ETag")).status)
	// On a board that doesn't exist yet it waits too.
	nowhere := base + "/v1/boards/c/entries"
	a = ask(t, "GET", nowhere, "")
	go func() {
		for a := a; ; {
			a = ask(t, "GET", nowhere+"?wait=30&since="+a.json["mark"].(string), "")
			if len(a.json["entries"].([]any)) > 0 { // it may hear that the board is there before there is something on it
				got <- a
				return
			}
		}
	}()
	synctest.Wait() // until it waits
	ask(t, "PUT", nowhere+"/a", "3")
	assert.Equal(t, json.Number("3"), (<-got).json["entries"].([]any)[0].(map[string]any)["value"])
	// A board that is removed while somebody waits is empty.
	mark = ask(t, "GET", nowhere, "").json["mark"].(string)
	go func() { got <- ask(t, "GET", nowhere+"?wait=30&since="+mark, "") }()
	synctest.Wait()
	ask(t, "DELETE", base+"/v1/boards/c", "")
	a = <-got
	assert.Equal(t, []any{true, json.Number("0")}, []any{a.json["whole"], a.json["version"]})
	go func() { got <- ask(t, "GET", board+"/entries?wait=30&since="+mark, "") }()
	synctest.Wait()
	stop()
	assert.Equal(t, 200, (<-got).status, "a server that stops ends waiting calls")
}

func TestHistory(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	board := base + "/v1/boards/b"
	assert.Empty(t, ask(t, "GET", board+"/history", "").json["commits"], "an unknown board has none")
	ask(t, "PUT", board+"/entries/a", "1", "Client-Name", "tankwatch")
	ask(t, "PUT", board+"/entries/b", "x")
	ask(t, "PUT", board+"/entries/a?as=text", `"one"`, "Content-Type", typeJSON)
	ask(t, "PUT", board+"/entries/a?kind=text", "one")
	ask(t, "DELETE", board+"/entries/b", "")
	a := ask(t, "GET", board+"/history?name=a", "")
	var told []string
	for _, c := range a.json["commits"].([]any) {
		ch := c.(map[string]any)["changes"].([]any)[0].(map[string]any)
		told = append(told, fmt.Sprintf("%v: %v %v, %v %v, %v", c.(map[string]any)["version"], ch["old_kind"], ch["old"], ch["new_kind"], ch["new"], c.(map[string]any)["by"]))
	}
	assert.Equal(t, []string{"3: int 1, text one, <nil>", "1: <nil> <nil>, int 1, tankwatch"}, told, "newest first")
	assert.Len(t, ask(t, "GET", board+"/history?limit=1", "").json["commits"], 1)
	a = ask(t, "GET", board+"/entries?at=2", "")
	assert.Len(t, a.json["entries"], 2)
	assert.Equal(t, json.Number("1"), a.json["entries"].([]any)[0].(map[string]any)["value"])
	assert.Equal(t, "too-old", ask(t, "GET", board+"/entries?at=9", "").code())
	now := url.QueryEscape(time.Now().Add(time.Second).Format(time.RFC3339Nano))
	a = ask(t, "GET", board+"/entries?at="+now, "")
	assert.Equal(t, []any{json.Number("4"), 1}, []any{a.json["version"], len(a.json["entries"].([]any))}, "the newest version then")
	assert.Equal(t, json.Number("0"), ask(t, "GET", board+"/entries?at=2020-01-01T00:00:00Z", "").json["version"], "before it was made there was nothing")
	assert.Equal(t, "too-old", ask(t, "GET", base+"/v1/boards/absent/entries?at=1", "").code())
	for _, query := range []string{"/entries?at=x", "/entries?at=1&since=1.5a3f9c10", "/history?before=0", "/history?limit=0", "/history?name=a//b", "/history?nam=a"} {
		assert.Equal(t, "invalid", ask(t, "GET", board+query, "").code(), query)
	}
}
