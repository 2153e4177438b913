package js_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/internal/test/cases"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/js"
	"github.com/small-pantry/pantry/server"
)

func TestMain(m *testing.M) { os.Exit(browser.Main(m)) }

// site serves the pages of the tests from another origin than the boards, and returns that origin.
// A test asks it for boards under /control/. Each board has a server of its own, so that a fault
// of one server disturbs no other test.
func site(t *testing.T) string {
	var mu sync.Mutex // guards servers
	servers := map[string]*cases.Server{}
	mux := http.NewServeMux()
	file := func(path, kind string, body []byte) {
		mux.HandleFunc("GET "+path, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", kind)
			_, _ = w.Write(body)
		})
	}
	file("/small-pantry.js", "text/javascript", js.Module)
	file("/cases/operations.json", "application/json", cases.Operations)
	file("/cases/trouble.json", "application/json", cases.Trouble)
	file("/cases/typed.json", "application/json", cases.Typed)
	file("/{$}", "text/html", []byte("<!doctype html><title>test</title>"))
	mux.Handle("GET /testdata/", http.FileServer(http.Dir(".")))
	mux.HandleFunc("POST /control/new", func(w http.ResponseWriter, _ *http.Request) {
		s := cases.NewServer(t)
		mu.Lock()
		defer mu.Unlock()
		name := fmt.Sprint("board-", len(servers)+1)
		servers[name] = s
		_, _ = io.WriteString(w, s.Link(name))
	})
	mux.HandleFunc("POST /control/{verb}", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		name := r.URL.Query().Get("board")
		mu.Lock()
		s := servers[name]
		mu.Unlock()
		if s == nil {
			http.Error(w, "no board "+name, http.StatusNotFound)
			return
		}
		switch r.PathValue("verb") {
		case "do":
			s.Do(name, string(body))
		case "others":
			entry, op, _ := strings.Cut(string(body), " ")
			s.Others(name, entry, op)
		case "holds":
			_, _ = io.WriteString(w, s.Holds(name, string(body)))
		}
	})
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	return srv.URL
}

// node runs a function of a module in Node, and returns its result.
func node(t *testing.T, origin, module, name string) string {
	t.Helper()
	browser.Need(t, "node")
	cmd := exec.Command("node", "testdata/node.mjs", origin, module, name, fmt.Sprint(soak.On()))
	var out, bad bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &bad
	require.NoError(t, cmd.Run(), "%s%s", &out, &bad)
	return out.String()
}

func passed(t *testing.T, result string, most int) {
	t.Helper()
	var got struct {
		Ran    int
		Failed []string
	}
	require.NoError(t, json.Unmarshal([]byte(result), &got), result)
	assert.Empty(t, got.Failed)
	assert.GreaterOrEqual(t, got.Ran, most)
}

// The cases that the client in Go passes, in Node and in a page.
func TestCases(t *testing.T) {
	t.Parallel()
	t.Run("node", func(t *testing.T) {
		t.Parallel()
		passed(t, node(t, site(t), "/testdata/cases.mjs", "runAll"), 17)
	})
	t.Run("page", func(t *testing.T) {
		t.Parallel()
		b := browser.Start(t)
		origin := site(t)
		p := b.Open(t, origin)
		passed(t, browser.Eval[string](p, `import('/testdata/cases.mjs').then(m => m.runAll(location.origin))`), 22)
	})
}

// What the cases can't say as data, in Node and in a page: functions of modules in testdata.
func TestMore(t *testing.T) {
	t.Parallel()
	for _, name := range []string{
		"keys/values", "keys/typed", "keys/collections", "keys/checks", "keys/firstUse", "network/watching", "network/many", "network/nowhere",
		"network/order", "network/odd", "network/edges", "network/readiness", "network/storm",
	} {
		t.Run("node/"+name, func(t *testing.T) {
			t.Parallel()
			file, function, _ := strings.Cut(name, "/")
			assert.Equal(t, "\n", node(t, site(t), "/testdata/"+file+".mjs", function))
		})
	}
	b := browser.Start(t)
	for _, name := range []string{
		"keys/values", "network/watching", "network/hidden", "network/lossy", "queue/another", "queue/offline", "queue/ownBase", "queue/ownUnseenBase",
	} {
		t.Run("page/"+name, func(t *testing.T) {
			t.Parallel()
			file, function, _ := strings.Cut(name, "/")
			p := b.Open(t, site(t))
			assert.Empty(t, browser.Eval[string](p, fmt.Sprintf(`import('/testdata/%s.mjs').then(m => m.%s(location.origin, %v))`, file, function, soak.On())))
		})
	}
}

// Changes that wait for the network outlive the page. The next page sends them, or several at once, and each
// counts once.
func TestQueueOutlivesThePage(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	origin, s := site(t), cases.NewServer(t)
	link := s.Link("rowan-street")
	s.Others("rowan-street", "n", `{"op":"put","value":10}`)
	p := b.Open(t, origin)
	s.Do("rowan-street", "lose 1000") // the first write arrives, and its answer is lost
	assert.Empty(t, browser.Eval[string](p, fmt.Sprintf(`import('/testdata/queue.mjs').then(m => m.queue(%q))`, link)))
	p.Reload()
	s.Do("rowan-street", "back")
	p.Until(`document.readyState === 'complete'`)
	assert.Empty(t, browser.Eval[string](p, fmt.Sprintf(`import('/testdata/queue.mjs').then(m => Promise.all([m.later(%q), m.later(%q)])).then(a => a.join(''))`, link, link)))
	assert.Contains(t, s.Holds("rowan-street", "n"), `"value":13,`)
}

// Two tabs of a browser share what waits. Both show it and one sends it. When that one is closed, the other
// sends.
func TestTabsShareTheQueue(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	origin, s := site(t), cases.NewServer(t)
	link := s.Link("rowan-street")
	s.Others("rowan-street", "n", `{"op":"put","value":10}`)
	one := b.Open(t, origin)
	two := one.Tab(origin)
	run := func(p *browser.Page, call string, args ...any) {
		t.Helper()
		assert.Empty(t, browser.Eval[string](p, fmt.Sprintf(`import('/testdata/queue.mjs').then(m => m.`+call+`)`, args...)))
	}
	s.Do("rowan-street", "cut")
	run(one, "tab(%q, 2)", link)
	run(two, "tab(%q, 1)", link)
	for _, p := range []*browser.Page{one, two} {
		run(p, "tabHas(3)")
	}
	s.Do("rowan-street", "back")
	for _, p := range []*browser.Page{one, two} {
		run(p, "tabShows(13)")
	}
	for key, n := range s.Arrived() {
		assert.Equal(t, 1, n, "%s was sent by both", key)
	}

	s.Do("rowan-street", "cut")
	run(one, "tab(%q, 2)", link)
	run(two, "tab(%q, 1)", link)
	for _, p := range []*browser.Page{one, two} {
		run(p, "tabHas(3)")
	}
	one.Go("about:blank") // it held the lock
	s.Do("rowan-street", "back")
	run(two, "tabShows(16)")
	assert.Contains(t, s.Holds("rowan-street", "n"), `"value":16,`)
}

// owned starts a server with tokens, and returns its address and the link of a board's owner.
func owned(t *testing.T) (address, link string) {
	t.Helper()
	web := httptest.NewUnstartedServer(nil)
	s, err := server.New(server.Options{Data: t.TempDir(), Public: "http://" + web.Listener.Addr().String(), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	web.Config.Handler = s
	web.Start()
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		web.CloseClientConnections()
		web.Close()
	})
	link, _, err = s.OwnerLink(t.Context(), "rowan-street")
	require.NoError(t, err)
	return web.URL, link
}

// What was sent with one link is not sent again with another of the same browser.
func TestQueueBelongsToItsLink(t *testing.T) {
	t.Parallel()
	_, link := owned(t)
	owner, err := board.Join(link)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, owner.Close()) })
	phone, err := owner.Invite(t.Context(), board.Invitation{May: "write", Label: "phone"})
	require.NoError(t, err)
	p := browser.Start(t).Open(t, site(t))
	assert.Empty(t, browser.Eval[string](p, fmt.Sprintf(`import('/testdata/queue.mjs').then(m => m.links(%q, %q))`, link, phone.Link)))
}
