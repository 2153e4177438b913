package server_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/server"
)

// A listener reads a stream.
type listener struct {
	t      *testing.T
	in     *bufio.Reader
	cancel context.CancelFunc
}

// An event is one, with its page held against openapi.json.
type event struct {
	id   string
	page map[string]any
	end  bool
}

func listen(t *testing.T, url string, headers ...string) *listener {
	ctx, cancel := context.WithCancel(t.Context())
	req, err := http.NewRequestWithContext(ctx, "GET", url, nil)
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := client.Do(req)
	require.NoError(t, err)
	require.Equal(t, "text/event-stream", resp.Header.Get("Content-Type"))
	require.Equal(t, "private, no-cache", resp.Header.Get("Cache-Control"))
	t.Cleanup(func() { cancel(); resp.Body.Close() })
	l := &listener{t, bufio.NewReader(resp.Body), cancel}
	first, err := l.in.ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "retry: 2000\n", first)
	return l
}

// next gives the next event; with end where the stream ended.
func (l *listener) next() (e event) {
	for {
		line, err := l.in.ReadString('\n')
		if err != nil {
			return event{end: true}
		}
		line = strings.TrimSuffix(line, "\n")
		if id, ok := strings.CutPrefix(line, "id: "); ok {
			e.id = id
		} else if data, ok := strings.CutPrefix(line, "data: "); ok {
			dec := json.NewDecoder(strings.NewReader(data))
			dec.UseNumber()
			require.NoError(l.t, dec.Decode(&e.page))
			require.Empty(l.t, openAPI().broken(schema{"$ref": "#/components/schemas/Page"}, any(e.page), "event"), data)
		} else if line == "" && e.page != nil {
			return e
		}
	}
}

// tells writes an event: its names, those that are gone, whether it is whole, and next.
func (e event) tells() string {
	if e.end {
		return "end"
	}
	var out []string
	for _, one := range e.page["entries"].([]any) {
		out = append(out, fmt.Sprint(one.(map[string]any)["name"], "=", one.(map[string]any)["value"]))
	}
	for _, one := range e.page["gone"].([]any) {
		out = append(out, fmt.Sprint("-", one.(map[string]any)["name"]))
	}
	if e.page["whole"] == true {
		out = append(out, "whole")
	}
	if e.page["next"] != nil {
		out = append(out, fmt.Sprint("next ", e.page["next"]))
	}
	return strings.Join(out, " ")
}

func TestEvents(t *testing.T) {
	base, stop := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	early := listen(t, at+"/events")
	e := early.next()
	assert.Equal(t, "whole", e.tells(), "a board that doesn't exist yet is empty")
	ask(t, "PUT", at+"/entries/tank/litres", "420")
	for e = early.next(); e.tells() == "whole"; e = early.next() { // it may hear that the board is there first
	}
	assert.Contains(t, []string{"tank/litres=420", "tank/litres=420 whole"}, e.tells())
	assert.Equal(t, e.page["mark"], e.id)
	ask(t, "PUT", at+"/entries/gate/open", "true")
	e = early.next()
	assert.Equal(t, "gate/open=true", e.tells())

	l := listen(t, at+"/events?name=tank/litres&prefix=hose/")
	e = l.next()
	assert.Equal(t, "tank/litres=420 whole", e.tells())
	first := e.id
	ask(t, "PUT", at+"/entries/gate/open", "false")
	ask(t, "PUT", at+"/entries/hose/queue", `["C4"]`)
	e = l.next()
	assert.Equal(t, []any{"hose/queue=[C4]", first}, []any{e.tells(), e.page["since"]}, "of what was asked for, from where it was before")
	ask(t, "DELETE", at+"/entries/hose/queue", "")
	assert.Equal(t, "-hose/queue", l.next().tells())
	ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"tank/litres","value":1},{"op":"put","name":"hose/a","value":2}]}`)
	e = l.next()
	assert.Equal(t, "hose/a=2 tank/litres=1", e.tells(), "a commit is one event")

	// Where it broke off it goes on.
	l.cancel()
	ask(t, "PUT", at+"/entries/hose/a", "3")
	l = listen(t, at+"/events?prefix=hose/", "Last-Event-ID", e.id)
	assert.Equal(t, "hose/a=3", l.next().tells())
	assert.Equal(t, "-hose/queue", strings.Split(listen(t, at+"/events?prefix=hose/&since="+first).next().tells(), " ")[1])
	assert.Equal(t, "hose/a=3 whole", listen(t, at+"/events?prefix=hose/", "Last-Event-ID", "3.00000000").next().tells(), "or begins anew")
	assert.NotContains(t, fmt.Sprint(listen(t, at+"/events?names=true&name=hose/a").next().page), "value")

	// In pages, of which the last alone says where it stands.
	l = listen(t, at+"/events?limit=2")
	e = l.next()
	assert.Equal(t, []any{"gate/open=false hose/a=3 whole next hose/a", ""}, []any{e.tells(), e.id})
	e = l.next()
	assert.Equal(t, []any{"tank/litres=1", e.page["mark"]}, []any{e.tells(), e.id})

	for _, query := range []string{"?wait=1", "?since=x", "?name=a//b", "?at=1"} {
		assert.Equal(t, "invalid", ask(t, "GET", at+"/events"+query, "").code(), query)
	}
	assert.Equal(t, "invalid", ask(t, "GET", at+"/events", "", "Last-Event-ID", "17").code())

	// A board that is removed ends its streams, and one that is made again is another.
	assert.Equal(t, 204, ask(t, "DELETE", at, "").status)
	assert.Equal(t, "end", l.next().tells())
	assert.Equal(t, "no-board", ask(t, "DELETE", at, "").code())
	assert.Equal(t, 201, ask(t, "POST", base+"/v1/boards", `{"board":"b"}`).status)
	assert.Equal(t, 200, ask(t, "POST", base+"/v1/boards", `{"board":"b"}`).status)
	assert.Equal(t, "invalid", ask(t, "POST", base+"/v1/boards", `{"board":"B"}`).code())
	assert.Equal(t, "invalid", ask(t, "POST", base+"/v1/boards", `{"name":"b"}`).code())
	ask(t, "PUT", at+"/entries/x", "1")
	l = listen(t, at+"/events", "Last-Event-ID", first)
	assert.Equal(t, "x=1 whole", l.next().tells())
	stop()
	assert.Equal(t, "end", l.next().tells(), "a server that stops ends its streams")
}

// A slow reader is told the newest, and what is between is left out.
func TestEventsAreNotQueued(t *testing.T) {
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	large := strings.Repeat("x", 500<<10)
	ask(t, "PUT", at+"/entries/note", large)
	l := listen(t, at+"/events")
	const changes = 40 // far more than what the network holds
	for i := range changes {
		require.Equal(t, 200, ask(t, "PUT", at+"/entries/note", fmt.Sprint(i, large)).status)
	}
	events, last := 0, ""
	for !strings.HasPrefix(last, fmt.Sprint(changes-1, "x")) {
		e := l.next()
		require.False(t, e.end)
		last = e.page["entries"].([]any)[0].(map[string]any)["value"].(string)
		events++
	}
	assert.Less(t, events, changes)
}

// A mark is believed where its commit is the one that it was, and nowhere else: not
// when an older file was put back under a running server, nor a repaired one, nor when
// the versions were used anew.
func TestMarks(t *testing.T) {
	data := t.TempDir()
	base, stop := start(t, data)
	at := base + "/v1/boards/b"
	path := filepath.Join(data, "boards", "b.jsonl")
	mark := func() string { return ask(t, "GET", at+"/entries", "").json["mark"].(string) }
	since := func(m string) (whole any, names int) {
		a := ask(t, "GET", at+"/entries?since="+m, "")
		return a.json["whole"], len(a.json["entries"].([]any))
	}
	for i := range 3 {
		ask(t, "PUT", fmt.Sprint(at, "/entries/n", i), "1")
	}
	third := mark()
	backup, err := os.ReadFile(path)
	require.NoError(t, err)
	ask(t, "PUT", at+"/entries/n3", "1")
	fourth := mark()
	l := listen(t, at+"/events", "Last-Event-ID", fourth)
	assert.Empty(t, l.next().tells())

	put := func(file []byte) {
		require.NoError(t, os.WriteFile(path+".tmp", file, 0o600))
		require.NoError(t, os.Rename(path+".tmp", path))
	}
	put(backup)
	assert.Equal(t, "n0=1 n1=1 n2=1 whole", l.next().tells(), "a stream hears of it by itself")
	require.Eventually(t, func() bool { return mark() == third }, 10*time.Second, 50*time.Millisecond)
	whole, n := since(third)
	assert.Equal(t, []any{false, 0}, []any{whole, n}, "what is in the backup is as it was")
	whole, n = since(fourth)
	assert.Equal(t, []any{true, 3}, []any{whole, n})
	ask(t, "PUT", at+"/entries/another", "1")
	assert.NotEqual(t, fourth, mark(), "version 4 is another one now")
	whole, n = since(fourth)
	assert.Equal(t, []any{true, 4}, []any{whole, n})
	whole, n = since(third)
	assert.Equal(t, []any{false, 1}, []any{whole, n})

	// A repaired file.
	now := mark()
	stop()
	file, err := os.ReadFile(path)
	require.NoError(t, err)
	i := strings.LastIndex(string(file), `"another"`)
	file[i+1] = 'A'
	require.NoError(t, os.WriteFile(path, append(file, "\n"...), 0o600))
	_, _, err = ledger.Mend(filepath.Join(data, "boards"), "b", ledger.Options{})
	require.NoError(t, err)
	base, stop = start(t, data)
	at = base + "/v1/boards/b"
	whole, _ = since(now)
	assert.Equal(t, true, whole)

	// Compaction forgets nothing while the server runs, and little after a restart.
	ask(t, "PUT", at+"/entries/rare", "1")
	rare := mark()
	for i := range 5000 {
		ask(t, "POST", at+"/entries/busy", fmt.Sprintf(`{"op":"add","amount":%d}`, i+1))
	}
	whole, n = since(rare)
	assert.Equal(t, []any{false, 1}, []any{whole, n})
	newest := mark()
	stop()
	base, _ = start(t, data)
	at = base + "/v1/boards/b"
	assert.Equal(t, newest, mark(), "a restart costs clients nothing")
	whole, n = since(rare)
	assert.Equal(t, []any{false, 1}, []any{whole, n}, "a commit that is kept is known")
}

// What was, and what a restore makes of it.
func TestRestoreOnABoard(t *testing.T) {
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	commit := func(ops string) answer { return ask(t, "POST", at+"/commit", `{"ops":[`+ops+`]}`) }
	commit(`{"op":"put","name":"beds/C4","value":"beans"},{"op":"put","name":"beds/B2","value":"peas"},{"op":"put","name":"tank/litres","value":420}`)
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"tank/litres","kind":"int","default":0,"max":500,"min":0}]}`)
	commit(`{"op":"reset","prefix":"beds/"},{"op":"put","name":"tank/litres","value":0},{"op":"put","name":"beds/D5","value":"garlic"}`)
	a := commit(`{"op":"restore","at":1,"prefix":"beds/"}`)
	require.Equal(t, 200, a.status, a.body)
	assert.Len(t, a.json["entries"], 2)
	assert.Len(t, a.json["gone"], 1)
	assert.Equal(t, json.Number("0"), ask(t, "GET", at+"/entries/tank/litres", "").json["value"], "nothing else")
	a = commit(`{"op":"restore","at":1,"names":["tank/litres","nothing"]},{"op":"add","name":"tank/litres","amount":1}`)
	assert.Equal(t, json.Number("421"), a.json["entries"].([]any)[0].(map[string]any)["value"])
	assert.Equal(t, json.Number("5"), a.json["version"])
	assert.Equal(t, []any{map[string]any{"changed": false}}, commit(`{"op":"restore","at":4,"prefix":"beds/"}`).json["results"], "as it is already")
	a = commit(`{"op":"put","name":"x","value":1},{"op":"restore","at":99,"prefix":""}`)
	assert.Equal(t, []any{"too-old", json.Number("1")}, []any{a.code(), a.json["op"]})
	now := time.Now().UTC().Format(time.RFC3339Nano)
	time.Sleep(2 * time.Millisecond)
	commit(`{"op":"reset","prefix":""}`)
	a = commit(`{"op":"restore","at":"` + now + `","prefix":""}`)
	assert.Len(t, a.json["entries"], 3)
	for _, op := range []string{`{"op":"restore","at":1}`, `{"op":"restore","prefix":""}`, `{"op":"restore","at":-1,"prefix":""}`, `{"op":"restore","at":"noon","prefix":""}`, `{"op":"restore","at":1,"prefix":"","if":1}`, `{"op":"restore","at":1,"names":["a//b"]}`, `{"op":"restore","at":1,"at":2,"prefix":""}`} {
		assert.Equal(t, "invalid", commit(op).code(), op)
	}
	assert.Equal(t, "too-old", ask(t, "POST", base+"/v1/boards/none/commit", `{"ops":[{"op":"restore","at":3,"prefix":""}]}`).code())
	// What is declared by now holds for what comes back.
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"tank/litres","kind":"int","default":0,"max":5,"min":0}],"change":true}`)
	commit(`{"op":"drop","name":"tank/litres"}`)
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"tank/litres","kind":"int","default":0,"max":5,"min":0}],"change":true}`)
	assert.Equal(t, "out-of-range", commit(`{"op":"restore","at":5,"prefix":""}`).code())

	a = ask(t, "GET", at+"/entries?at=1&prefix=beds/&limit=1", "")
	assert.Equal(t, []any{1, "beds/B2"}, []any{len(a.json["entries"].([]any)), a.json["next"]})
	a = ask(t, "GET", at+"/entries?at=1&prefix=beds/&limit=1&after=beds/B2&names=true", "")
	assert.Equal(t, []any{1, nil}, []any{len(a.json["entries"].([]any)), a.json["next"]})
	assert.Len(t, ask(t, "GET", at+"/history?prefix=beds/", "").json["commits"], 5)
	assert.Len(t, ask(t, "GET", at+"/history?prefix=beds/&before=3", "").json["commits"], 1)
}

// An entry is there at every version that is told, while the file is written anew.
func TestAtWhileCompacting(t *testing.T) {
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	ask(t, "PUT", at+"/entries/rare", "1")
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := range 6000 {
			ask(t, "POST", at+"/entries/busy", fmt.Sprintf(`{"op":"add","amount":%d}`, i+1))
		}
	}()
	for n := 0; ; n++ {
		version := ask(t, "GET", at+"/entries/busy", "").json["version"]
		if version != nil {
			a := ask(t, "GET", fmt.Sprint(at, "/entries?name=rare&at=", version), "")
			if a.code() != "too-old" {
				require.Len(t, a.json["entries"], 1, a.body)
			}
			require.NotEmpty(t, ask(t, "GET", at+"/history?limit=5", "").json["commits"])
		}
		select {
		case <-done:
			assert.Greater(t, n, 10)
			return
		default:
		}
	}
}

// What is refused, and what changes nothing, makes no board.
func TestRefusedMakesNoBoard(t *testing.T) {
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	for _, a := range []answer{
		ask(t, "PUT", at+"/entries/n", "1", "If-Match", `"1"`),
		ask(t, "PUT", at+"/entries/n", "null", "Content-Type", typeJSON),
		ask(t, "POST", at+"/entries/n", `{"op":"take","at":0}`),
		ask(t, "POST", at+"/entries/n", `{"op":"add","amount":9,"max":5}`),
		ask(t, "DELETE", at+"/entries/n", ""),
		ask(t, "DELETE", at+"/entries/n?forget=true", ""),
		ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"n","value":1},{"op":"drop","name":"m"}]}`),
		ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"n","value":1},{"op":"drop","name":"n"}]}`),
	} {
		assert.True(t, a.status >= 400 || a.json["version"] == json.Number("0"), a.body)
	}
	a := ask(t, "POST", at+"/commit", `{"ops":[{"op":"reset","prefix":""}]}`)
	assert.Equal(t, []any{200, json.Number("0"), a.json["since"]}, []any{a.status, a.json["version"], a.json["mark"]})
	assert.Empty(t, ask(t, "GET", base+"/v1/boards", "").json["boards"])
	// What an absent entry starts from is stored only where the operation is done.
	assert.Equal(t, json.Number("3"), ask(t, "POST", at+"/entries/frost", `{"op":"lower","to":3}`).json["value"], "lower starts from what it is lowered to")
}

// The facts of a board.
func TestFacts(t *testing.T) {
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	a := ask(t, "GET", at, "")
	assert.Equal(t, []any{false, json.Number("0"), "own"}, []any{a.json["exists"], a.json["entries"], a.json["may"]})
	ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"a","value":"xy"},{"op":"put","name":"b","value":1},{"op":"drop","name":"b"},{"op":"put","name":"c","value":true}]}`)
	ask(t, "DELETE", at+"/entries/c", "")
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"n","kind":"int"}],"closed":true}`)
	l := listen(t, at+"/events")
	l.next()
	a = ask(t, "GET", at, "")
	assert.Equal(t, []any{true, json.Number("1"), json.Number("5"), json.Number("1"), true, json.Number("1"), json.Number("3")},
		[]any{a.json["exists"], a.json["entries"], a.json["bytes"], a.json["keys"], a.json["closed"], a.json["watchers"], a.json["version"]}, a.body)
	assert.NotEqual(t, json.Number("0"), a.json["requests"])
}

// A board takes no more than it may.
func TestQuota(t *testing.T) {
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	for part := range 10 {
		var ops []string
		for i := range 1000 {
			ops = append(ops, fmt.Sprintf(`{"op":"put","name":"n%d","value":1}`, part*1000+i))
		}
		require.Equal(t, 200, ask(t, "POST", at+"/commit", `{"ops":[`+strings.Join(ops, ",")+`]}`).status)
	}
	a := ask(t, "PUT", at+"/entries/more", "1")
	assert.Equal(t, []any{409, "quota"}, []any{a.status, a.code()})
	assert.Equal(t, 200, ask(t, "PUT", at+"/entries/n1", "2").status, "what is there can be changed")
	assert.Equal(t, json.Number("1.000"), ask(t, "GET", at, "").json["near"])
	a = ask(t, "POST", at+"/commit", `{"ops":[{"op":"drop","name":"n1"},{"op":"put","name":"more","value":1}]}`)
	assert.Equal(t, 200, a.status, "and exchanged")
	large := strings.Repeat("x", 1<<20-2)
	for i := 0; ; i++ {
		a := ask(t, "PUT", fmt.Sprint(at, "/entries/n", 100+i, "?kind=text"), large, "Content-Type", "text/plain")
		if a.status != 200 {
			assert.Equal(t, "quota", a.code())
			assert.Equal(t, 31, i, "32 MiB with the names")
			break
		}
	}
}

// Trouble on demand.
func TestTrouble(t *testing.T) {
	for s, want := range map[string]server.Trouble{
		"slow=20ms,cut=10%,garble=tank/litres": {Slow: 20 * time.Millisecond, Cut: 0.1, Garble: "tank/litres"},
		"cut=0.5":                              {Cut: 0.5},
	} {
		got, err := server.ParseTrouble(s)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, s := range []string{"", "slow", "slow=-1s", "slow=2h", "cut=101%", "cut=x", "garble=", "garble=a//b", "lag=2s"} {
		_, err := server.ParseTrouble(s)
		assert.Error(t, err, s)
	}
	base, stop := startWith(t, server.Options{Data: t.TempDir(), Dev: true, Trouble: server.Trouble{Slow: 20 * time.Millisecond, Garble: "n"}})
	at := base + "/v1/boards/b/entries"
	began := time.Now()
	assert.Equal(t, "text", ask(t, "PUT", at+"/n", "5").json["kind"])
	assert.GreaterOrEqual(t, time.Since(began), 20*time.Millisecond)
	assert.Equal(t, server.Garbled, ask(t, "GET", at+"/n", "").json["value"])
	assert.Contains(t, ask(t, "GET", at, "").body, server.Garbled)
	assert.Equal(t, json.Number("6"), ask(t, "POST", base+"/v1/boards/b/commit", `{"ops":[{"op":"add","name":"n","amount":1},{"op":"put","name":"m","value":6}]}`).json["entries"].([]any)[1].(map[string]any)["value"], "only what is told is garbled, and only that entry")
	stop()

	base, _ = startWith(t, server.Options{Data: t.TempDir(), Dev: true, Trouble: server.Trouble{Cut: 0.5}})
	done, lost := 0, 0
	for i := range 200 {
		req, err := http.NewRequestWithContext(t.Context(), "POST", base+"/v1/boards/b/entries/n", strings.NewReader(`{"op":"add","amount":1}`))
		require.NoError(t, err)
		req.Header.Set("Idempotency-Key", fmt.Sprint(i)) // which Go takes as a sign that it may repeat the request
		resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
		if err != nil {
			lost++
			continue
		}
		resp.Body.Close()
		done++
	}
	assert.Greater(t, done, 40)
	assert.Greater(t, lost, 40)
	var n int
	for n == 0 {
		resp, err := http.Get(base + "/v1/boards/b/entries/n")
		if err == nil {
			var e struct{ Value int }
			require.NoError(t, json.NewDecoder(resp.Body).Decode(&e))
			resp.Body.Close()
			n = e.Value
		}
	}
	assert.Greater(t, n, done, "some that were lost are done")
	assert.Less(t, n, 200, "and some are not")
}

// A developer's own pages, from the same origin.
func TestOwnPages(t *testing.T) {
	data, dir := t.TempDir(), t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("index.html", "<p>garden")
	write("app.js", "// app")
	write("beds/index.html", "<p>beds")
	write(".secret", "secret")
	write(".git/config", "secret")
	write("v1/boards/index.html", "hides")
	require.NoError(t, os.WriteFile(filepath.Join(data, "outside"), []byte("outside"), 0o600))
	require.NoError(t, os.Symlink(filepath.Join(data, "outside"), filepath.Join(dir, "link")))
	base, _ := startWith(t, server.Options{Data: data, Dev: true, Pages: dir})
	for path, want := range map[string]string{"/index.html": "<p>garden", "/app.js": "// app", "/beds/": "<p>beds", "/beds/index.html": "<p>beds"} {
		a := ask(t, "GET", base+path, "")
		assert.Equal(t, []any{200, want}, []any{a.status, a.body}, path)
		assert.Equal(t, "private, no-cache", a.header.Get("Cache-Control"))
	}
	assert.Contains(t, ask(t, "GET", base+"/app.js", "").header.Get("Content-Type"), "javascript")
	assert.Equal(t, 200, ask(t, "GET", base+"/index.html", "", "Sec-Fetch-Site", "cross-site").status, "a page can be opened from elsewhere")
	for _, path := range []string{"/beds", "/none", "/.secret", "/.git/config", "/link", "/beds/../.secret", "/beds/%2e%2e/%2e%2e/outside", "//app.js", "/v1/boards/index.html/", "/%00"} {
		a := ask(t, "GET", base+path, "")
		assert.Equal(t, "no-route", a.code(), "%s: %s", path, a.body)
	}
	assert.Equal(t, "no-route", ask(t, "POST", base+"/app.js", "").code())
	a := ask(t, "GET", base+"/", "")
	assert.Contains(t, a.body, "/index.html")
	assert.Contains(t, a.body, "curl -X PUT")
	_, err := server.New(server.Options{Data: filepath.Join(dir, "boards"), Dev: true, Pages: dir})
	assert.ErrorContains(t, err, "holds the boards")
	_, err = server.New(server.Options{Data: t.TempDir(), Dev: true, Pages: filepath.Join(dir, "none")})
	assert.ErrorIs(t, err, os.ErrNotExist)
}
