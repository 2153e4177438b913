package server_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

// next returns the next event, with end if the stream ended.
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

// text formats an event: its names, those that are gone, whether it is whole, and next.
func (e event) text() string {
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
	t.Parallel()
	base, stop := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	early := listen(t, at+"/events")
	e := early.next()
	assert.Equal(t, "whole", e.text(), "a board that doesn't exist yet is empty")
	ask(t, "PUT", at+"/entries/tank/litres", "420")
	for e = early.next(); e.text() == "whole"; e = early.next() { // it may hear that the board is there first
	}
	assert.Contains(t, []string{"tank/litres=420", "tank/litres=420 whole"}, e.text())
	assert.Equal(t, e.page["mark"], e.id)
	ask(t, "PUT", at+"/entries/gate/open", "true")
	e = early.next()
	assert.Equal(t, "gate/open=true", e.text())

	l := listen(t, at+"/events?name=tank/litres&prefix=hose/")
	e = l.next()
	assert.Equal(t, "tank/litres=420 whole", e.text())
	first := e.id
	ask(t, "PUT", at+"/entries/gate/open", "false")
	ask(t, "PUT", at+"/entries/hose/queue", `["C4"]`)
	e = l.next()
	assert.Equal(t, []any{"hose/queue=[C4]", first}, []any{e.text(), e.page["since"]}, "of what was asked for, from where it was before")
	ask(t, "DELETE", at+"/entries/hose/queue", "")
	assert.Equal(t, "-hose/queue", l.next().text())
	ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"tank/litres","value":1},{"op":"put","name":"hose/a","value":2}]}`)
	e = l.next()
	assert.Equal(t, "hose/a=2 tank/litres=1", e.text(), "a commit is one event")

	// It continues where it broke off.
	l.cancel()
	ask(t, "PUT", at+"/entries/hose/a", "3")
	l = listen(t, at+"/events?prefix=hose/", "Last-Event-ID", e.id)
	assert.Equal(t, "hose/a=3", l.next().text())
	assert.Equal(t, "-hose/queue", strings.Split(listen(t, at+"/events?prefix=hose/&since="+first).next().text(), " ")[1])
	assert.Equal(t, "hose/a=3 whole", listen(t, at+"/events?prefix=hose/", "Last-Event-ID", "3.00000000").next().text(), "or it begins again")
	assert.NotContains(t, fmt.Sprint(listen(t, at+"/events?names=true&name=hose/a").next().page), "value")

	// In pages, and only the last one has an id.
	l = listen(t, at+"/events?limit=2")
	e = l.next()
	assert.Equal(t, []any{"gate/open=false hose/a=3 whole next hose/a", ""}, []any{e.text(), e.id})
	e = l.next()
	assert.Equal(t, []any{"tank/litres=1", e.page["mark"]}, []any{e.text(), e.id})

	l = listen(t, at+"/events?limit=2", "Last-Event-ID", "3.00000000")
	assert.Equal(t, "gate/open=false hose/a=3 whole next hose/a", l.next().text(), "also where it is the whole for want of a mark")
	assert.Equal(t, "tank/litres=1", l.next().text())

	for _, query := range []string{"?wait=1", "?since=x", "?name=a//b", "?at=1", "?beat=4", "?beat=61", "?beat=5.5", "?beat=often"} {
		assert.Equal(t, "invalid", ask(t, "GET", at+"/events"+query, "").code(), query)
	}
	assert.Equal(t, "invalid", ask(t, "GET", at+"/events", "", "Last-Event-ID", "17").code())

	// A board that is removed ends its streams, and one that is made again is another.
	assert.Equal(t, 204, ask(t, "DELETE", at, "").status)
	assert.Equal(t, "end", l.next().text())
	assert.Equal(t, "no-board", ask(t, "DELETE", at, "").code())
	assert.Equal(t, 201, ask(t, "POST", base+"/v1/boards", `{"board":"b"}`).status)
	assert.Equal(t, 200, ask(t, "POST", base+"/v1/boards", `{"board":"b"}`).status)
	assert.Equal(t, "invalid", ask(t, "POST", base+"/v1/boards", `{"board":"B"}`).code())
	assert.Equal(t, "invalid", ask(t, "POST", base+"/v1/boards", `{"name":"b"}`).code())
	ask(t, "PUT", at+"/entries/x", "1")
	l = listen(t, at+"/events", "Last-Event-ID", first)
	assert.Equal(t, "x=1 whole", l.next().text())
	stop()
	assert.Equal(t, "end", l.next().text(), "a server that stops ends its streams")
}

// Pages have one mark, that of the first, also during writes. What was written meanwhile comes after them.
func TestEventsInPagesWhileWriting(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	const names = 60
	for i := range names {
		ask(t, "PUT", fmt.Sprintf("%s/entries/n%02d", at, i), "0")
	}
	done := make(chan struct{})
	written := make(chan struct{})
	go func() {
		defer close(written)
		for i := 1; ; i++ {
			select {
			case <-done:
				return
			default:
				ask(t, "PUT", fmt.Sprintf("%s/entries/n%02d", at, i%names), fmt.Sprint(i))
			}
		}
	}()
	for range 10 {
		l := listen(t, at+"/events?limit=1")
		has := map[string]string{}
		take := func(e event) {
			for _, one := range e.page["entries"].([]any) {
				one := one.(map[string]any)
				has[one["name"].(string)] = fmt.Sprint(one["version"])
			}
		}
		first := l.next()
		take(first)
		e := first
		for ; e.id == ""; e = l.next() {
			require.Equal(t, first.page["mark"], e.page["mark"])
			take(e)
		}
		take(e)
		require.Equal(t, first.page["mark"], e.id)
		require.Len(t, has, names)
		require.Equal(t, e.id, l.next().page["since"], "and on without a gap")
		l.cancel()
	}
	close(done)
	<-written
}

// A slow reader gets the newest values, and those between are left out.
func TestEventsAreNotQueued(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	large := strings.Repeat("x", 500<<10)
	ask(t, "PUT", at+"/entries/note", large)
	l := listen(t, at+"/events")
	const changes = 40 // far more than what the network holds
	for i := range changes {
		require.Equal(t, 200, ask(t, "PUT", at+"/entries/note", fmt.Sprint(i, large)).status)
	}
	events, last, id := 0, "", ""
	for !strings.HasPrefix(last, fmt.Sprint(changes-1, "x")) {
		e := l.next()
		if e.end { // the writes took longer than a reader may
			l = listen(t, at+"/events", "Last-Event-ID", id)
			continue
		}
		id = e.id
		last = e.page["entries"].([]any)[0].(map[string]any)["value"].(string)
		events++
	}
	assert.Less(t, events, changes)
}

// A quiet stream sends a comment at the interval that the request asks for.
func TestBeat(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		base, _ := inMemory(t, server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
		for query, beat := range map[string]time.Duration{"": 15 * time.Second, "?beat=5": 5 * time.Second, "?beat=60": time.Minute} {
			conn := dial(t, base)
			_, err := fmt.Fprintf(conn, "GET /v1/boards/b/events%s HTTP/1.1\r\nHost: %s\r\n\r\n", query, strings.TrimPrefix(base, "http://"))
			require.NoError(t, err)
			in := bufio.NewReader(conn)
			resp, err := http.ReadResponse(in, nil)
			require.NoError(t, err)
			events := bufio.NewReader(resp.Body)
			next := func() {
				for line := ""; line != ":\n"; {
					line, err = events.ReadString('\n')
					require.NoError(t, err)
				}
			}
			next()
			begun := time.Now()
			next()
			assert.Equal(t, beat, time.Since(begun), query)
			require.NoError(t, conn.Close())
		}
	})
}

// A stream whose mark is lost between two pages ends. It must not send pages of another answer behind
// the first.
func TestMarkIsLostBetweenPages(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		base, _ := inMemory(t, server.Options{Data: t.TempDir(), Dev: true, Log: slog.New(slog.DiscardHandler)})
		at := base + "/v1/boards/b"
		ask(t, "PUT", at+"/entries/old", "1")
		mark := ask(t, "GET", at+"/entries", "").json["mark"].(string)
		for i := range 5 {
			ask(t, "PUT", fmt.Sprint(at, "/entries/n", i), `"`+strings.Repeat("x", 40<<10)+`"`)
		}
		conn := dial(t, base)
		_, err := fmt.Fprintf(conn, "GET /v1/boards/b/events?limit=1&since=%s HTTP/1.1\r\nHost: %s\r\n\r\n", mark, strings.TrimPrefix(base, "http://"))
		require.NoError(t, err)
		in := bufio.NewReader(conn)
		resp, err := http.ReadResponse(in, nil) // nothing is buffered on this network: the server waits in the first page
		require.NoError(t, err)
		events := bufio.NewReader(resp.Body)
		untilData := func() (line string) {
			for !strings.HasPrefix(line, "data: ") && err == nil {
				line, err = events.ReadString('\n')
			}
			return line
		}
		require.Contains(t, untilData(), `"name":"n0"`)
		require.Equal(t, 204, ask(t, "DELETE", at+"/entries/old?forget=true", "").status) // no mark from before holds now
		var rest []string
		for err == nil {
			rest = append(rest, untilData())
		}
		assert.NotContains(t, strings.Join(rest, ""), `"name":"n4"`)
		require.NoError(t, conn.Close())
	})
}
