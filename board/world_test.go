package board

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/require"
)

// A world is a server with one board, one client of it, and the requests between them.
// Their answers arrive late, in another order, or never.
type world struct {
	t    testing.TB
	rand *rand.Rand
	data string
	disk *simdisk.Disk
	s    *server.Server

	replica *replica
	late    []delivery
	stream  *asking // the position of an open stream; nil: there is none
	backup  []byte
	broken  string // the rule that is left out
	log     []string
}

// A delivery is an answer that has not arrived yet.
type delivery struct {
	asked asking
	page  *wire.Page
	rest  url.Values // the query for the next page; nil: this is the last one
}

const boardPath = "/v1/boards/b"

func newWorld(t testing.TB, seed uint64, broken string) *world {
	w := &world{t: t, rand: rand.New(rand.NewPCG(seed, 1)), data: filepath.Join(os.TempDir(), fmt.Sprint("small-pantry-view-", os.Getpid())), disk: simdisk.New(), replica: newReplica(), broken: broken}
	hooks.Set(filepath.Join(w.data, "boards"), hooks.Setting{Disk: w.disk, Small: 1})
	w.start()
	return w
}

func (w *world) start() {
	var err error
	w.s, err = server.New(server.Options{Data: w.data, Dev: true, Log: slog.New(slog.DiscardHandler)})
	require.NoError(w.t, err)
}

func (w *world) stop() { require.NoError(w.t, w.s.Close()) }

func (w *world) note(format string, args ...any) {
	w.log = append(w.log, fmt.Sprintf(format, args...))
}

// ask sends a request to the real handler.
func (w *world) ask(method, path, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, "http://localhost:8437"+path, strings.NewReader(body))
	r.RemoteAddr = "127.0.0.1:1"
	r.Header.Set("Content-Type", "application/json")
	local := net.Addr(&net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 8437})
	rec := httptest.NewRecorder()
	w.s.ServeHTTP(rec, r.WithContext(context.WithValue(r.Context(), http.LocalAddrContextKey, local)))
	return rec
}

func (w *world) page(rec *httptest.ResponseRecorder) *wire.Page {
	p, err := wire.ReadPage(rec.Body.Bytes())
	require.NoError(w.t, err, "%d %s\n%s", rec.Code, rec.Body, strings.Join(w.log, "\n"))
	return p
}

// question returns the client's next query.
func (w *world) question(a asking) url.Values {
	q := url.Values{}
	if !w.replica.covers("") {
		for name := range w.replica.names {
			q.Add("name", name)
		}
		slices.Sort(q["name"])
	}
	for _, m := range a.since {
		q.Add("since", m.String())
	}
	return q
}

var someNames = []string{"a", "b", "c", "d", "e"}

func (w *world) name() string { return someNames[w.rand.IntN(len(someNames))] }

// ops returns a random commit.
func (w *world) ops() string {
	var ops []string
	for range 1 + w.rand.IntN(3) {
		switch name := w.name(); w.rand.IntN(6) {
		case 0:
			ops = append(ops, fmt.Sprintf(`{"op":"reset","prefix":%q}`, name))
		default:
			ops = append(ops, fmt.Sprintf(`{"op":"put","name":%q,"value":%d}`, name, w.rand.IntN(1000)))
		}
	}
	return `{"ops":[` + strings.Join(ops, ",") + `]}`
}

// step takes one random step.
func (w *world) step() {
	switch w.rand.IntN(22) {
	case 0, 1, 2, 3: // another client writes
		ops := w.ops()
		rec := w.ask("POST", boardPath+"/commit", ops)
		w.note("others %s: %s", ops, rec.Body)
	case 4, 5, 6: // this client writes
		a, ops := w.replica.write(), w.ops()
		p := w.page(w.ask("POST", boardPath+"/commit", ops))
		w.note("own %s: since %s, at %s", ops, p.Since, p.Mark)
		w.late = append(w.late, delivery{asked: a, page: p})
	case 7, 8, 9:
		w.poll(0)
	case 10: // it asks in pages
		w.poll(1 + w.rand.IntN(2))
	case 11, 12, 13, 14:
		w.deliver(w.rand.IntN(len(w.late) + 1))
	case 15: // an answer is lost
		if n := len(w.late); n > 0 {
			i := w.rand.IntN(n)
			w.late = slices.Delete(w.late, i, i+1)
			w.note("lost %d", i)
		}
	case 16: // a variable is bound late
		before := *w.replica
		before.seen = slices.Clone(before.seen)
		name := w.name()
		w.replica.bind(name)
		if w.broken == "bind" { // the version is kept for prefixes that it was not asked with
			w.replica.mark, w.replica.seen, w.replica.epoch = before.mark, before.seen, before.epoch
		}
		if w.replica.epoch != before.epoch {
			w.stream = nil
		}
		w.note("bind %s", name)
	case 17:
		if w.stream == nil {
			a := w.replica.ask()
			w.stream = &a
			w.note("stream from %v", a.since)
		} else if w.rand.IntN(4) == 0 {
			w.stream = nil
			w.note("stream cut")
		}
	case 18:
		w.pushed()
	case 19:
		w.stop()
		w.trouble()
		w.start()
		w.stream = nil
	case 20:
		if w.rand.IntN(3) == 0 {
			w.note("remove: %d", w.ask("DELETE", boardPath, "").Code)
			w.stream = nil
		} else {
			name := w.name()
			w.note("forget %s: %d", name, w.ask("DELETE", boardPath+"/entries/"+name+"?forget=true", "").Code)
		}
	case 21:
		if file := w.disk.Read(w.file()); file != nil {
			w.backup = bytes.Clone(file)
			w.note("backup")
		}
	}
}

func (w *world) file() string { return journal.DataPath(filepath.Join(w.data, "boards"), "b") }

// trouble changes the file while the server is down.
func (w *world) trouble() {
	switch w.rand.IntN(3) {
	case 0:
		w.note("restart")
	case 1:
		if w.backup != nil {
			w.disk.Write(w.file(), w.backup)
			w.note("an older file is put back")
		}
	case 2:
		if w.disk.Read(w.file()) == nil {
			return
		}
		l, err := ledger.Open(filepath.Dir(w.file()), "b", ledger.Options{Disk: w.disk})
		require.NoError(w.t, err)
		require.NoError(w.t, l.Renew()) // as Repair does
		require.NoError(w.t, l.Close())
		w.note("repair")
	}
}

// poll sends a request and keeps its answer for later.
func (w *world) poll(limit int) {
	if len(w.replica.names) == 0 {
		return
	}
	a := w.replica.ask()
	q := w.question(a)
	if limit > 0 {
		q.Set("limit", fmt.Sprint(limit))
	}
	w.note("ask %s", q.Encode())
	d := delivery{asked: a, page: w.page(w.ask("GET", boardPath+"/entries?"+q.Encode(), ""))}
	if d.page.Next != "" {
		d.rest = q
	}
	w.late = append(w.late, d)
}

// deliver hands over an answer, or asks for its next page.
func (w *world) deliver(i int) {
	if i >= len(w.late) {
		return
	}
	d := &w.late[i]
	if d.rest != nil && w.broken != "half" {
		d.rest.Set("after", d.page.Next)
		rec := w.ask("GET", boardPath+"/entries?"+d.rest.Encode(), "")
		if rec.Code == http.StatusConflict { // the client starts again
			w.note("start again")
			w.late = slices.Delete(w.late, i, i+1)
			return
		}
		next := w.page(rec)
		w.note("next page after %s: %s", d.page.Next, rec.Body)
		if next.Whole != d.page.Whole {
			w.late = slices.Delete(w.late, i, i+1)
			return
		}
		d.page.Entries = append(d.page.Entries, next.Entries...)
		d.page.Gone = append(d.page.Gone, next.Gone...)
		if d.page.Next = next.Next; next.Next == "" {
			d.rest = nil
		}
		return
	}
	got := *d
	w.late = slices.Delete(w.late, i, i+1)
	w.take(got.asked, got.page)
}

// pushed sends the changes over the stream.
func (w *world) pushed() {
	if w.stream == nil || len(w.replica.names) == 0 {
		return
	}
	p := w.page(w.ask("GET", boardPath+"/entries?"+w.question(*w.stream).Encode(), ""))
	at, err := mark.Parse(p.Mark)
	require.NoError(w.t, err)
	w.note("pushed: since %s, at %s, %d entries", p.Since, p.Mark, len(p.Entries))
	a := *w.stream
	epoch := w.replica.epoch
	w.take(a, p)
	if w.stream = nil; w.replica.epoch == epoch && a.epoch == epoch {
		w.stream = &asking{epoch: epoch, since: []mark.Mark{at}}
	} // otherwise the stream is opened again
}

// take applies an answer by the rules, or without one of them.
func (w *world) take(a asking, p *wire.Page) {
	now, err := mark.Parse(p.Mark)
	require.NoError(w.t, err)
	switch w.broken {
	case "since": // the version moves whether or not the answer covers its names
		if !p.Whole {
			p.Since = w.replica.mark.String()
		}
	case "late": // an answer is applied although a whole board arrived after its request
		a.epoch = w.replica.epoch
	case "seen": // the versions seen are forgotten
		defer func() { w.replica.seen = nil }()
	case "older": // an answer is applied although it is no newer
		if !p.Whole && a.epoch == w.replica.epoch && now.Version <= w.replica.mark.Version {
			w.replica.mark = now
		}
	}
	changed, fresh, err := w.replica.take(a, p)
	require.NoError(w.t, err)
	w.note("taken: since %s, at %s, whole %v: %v %v, now at %v, seen %v", p.Since, p.Mark, p.Whole, changed, fresh, w.replica.mark, w.replica.seen)
}

// settle polls until no request is open, and returns where the client differs.
func (w *world) settle() string {
	for range 3 {
		w.poll(0)
		for len(w.late) > 0 {
			w.deliver(0)
		}
	}
	if len(w.replica.seen) > 0 && len(w.replica.names) > 0 {
		return fmt.Sprintf("it still asks for %v", w.replica.seen)
	}
	for name := range w.replica.names {
		rec := w.ask("GET", boardPath+"/entries/"+name, "")
		want := ""
		if rec.Code == http.StatusOK {
			var e entry.Entry
			require.NoError(w.t, json.Unmarshal(rec.Body.Bytes(), &e))
			want = fmt.Sprint(e.Value, " ", e.Version)
		}
		got := ""
		if e := w.replica.entries[name]; !e.Value.IsZero() {
			got = fmt.Sprint(e.Value, " ", e.Version)
		}
		if got != want {
			return fmt.Sprintf("%s is %q, and the client has %q", name, want, got)
		}
	}
	return ""
}
