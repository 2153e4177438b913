// Package shared_test runs the first apps that share a board: each as a program and as a page, at once.
package shared_test

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

func TestMain(m *testing.M) { os.Exit(browser.Main(m)) }

// serve serves boards, and the page of an app, as smallpantry serve --dev --pages does.
func serve(t *testing.T, pages string) (base string) {
	s, err := server.New(server.Options{Data: t.TempDir(), Dev: true, Pages: pages, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	web := httptest.NewServer(s)
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		web.CloseClientConnections()
		web.Close()
	})
	return web.URL
}

// A program is an app that runs in a process of its own.
type program struct {
	t   *testing.T
	in  io.WriteCloser
	mu  sync.Mutex // guards out
	out bytes.Buffer
}

func (p *program) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.Write(b)
}

func (p *program) types(line string) {
	_, err := fmt.Fprintln(p.in, line)
	require.NoError(p.t, err)
}

func (p *program) says(text string) {
	p.t.Helper()
	said := func() string {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.out.String()
	}
	if !assert.Eventually(p.t, func() bool { return strings.Contains(said(), text) }, hang.Patience, 5*time.Millisecond) {
		require.FailNow(p.t, "a program prints something else", "%q is not in %q", text, said())
	}
}

func start(t *testing.T, app string, args ...string) *program {
	t.Helper()
	binary := filepath.Join(t.TempDir(), app)
	out, err := exec.Command("go", "build", "-o", binary, "./"+app).CombinedOutput()
	require.NoError(t, err, string(out))
	p := &program{t: t}
	cmd := exec.Command(binary, args...)
	home := t.TempDir()
	cmd.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home, "XDG_DATA_HOME="+home)
	cmd.Stdout, cmd.Stderr = p, p
	p.in, err = cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		assert.NoError(t, p.in.Close())
		assert.NoError(t, cmd.Wait(), p.out.String())
	})
	return p
}

func TestCounter(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	base := serve(t, "counter")
	one := start(t, "counter", base+"/boards/rowan-street")
	two := b.Open(t, base+"/index.html")
	one.types("3")
	one.says("3 barrows (current)")
	two.Shows("3 barrows", "current")
	two.Click("#more")
	one.says("4 barrows (current)")
	one.types("many")
	one.says(`"many" won't do. Enter a whole number from 0 to 9999.`)
}

func TestNotices(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	base := serve(t, "notices")
	one := start(t, "notices", base+"/boards/rowan-street", "Ana")
	one.types("bring gloves")
	one.says("Ana: bring gloves") // which is new, unless it was added before the first answer
	two := b.Open(t, base+"/index.html")
	two.Shows("bring gloves (Ana)")
	two.Fill("[name=me]", "Ben")
	two.Fill("[name=text]", "beans are ripe")
	two.Click("button")
	two.Shows("new: beans are ripe (Ben)")
	one.says("new, from Ben: beans are ripe")
}

func TestMarrow(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	base := serve(t, "marrow")
	one := start(t, "marrow", base+"/boards/rowan-street")
	two := b.Open(t, base+"/index.html")
	for i := range 11 {
		one.types(fmt.Sprintf("Gardener-%d %d", i, 1000+100*i))
	}
	one.says(" 1. Gardener-10 2000 g")
	two.Shows("Gardener-10: 2000 g", "Gardener-1: 1100 g")
	assert.NotContains(t, two.Text("#best"), "Gardener-0:", "the ten best")
	two.Fill("[name=who]", "Ana / Ben")
	two.Fill("[name=grams]", "70000")
	two.Click("button")
	two.Shows("Enter a whole number from 0 to 60000.")
	two.Fill("[name=grams]", "5500")
	two.Click("button")
	one.says(" 1. Ana / Ben 5500 g")
}

// The programs are short enough to be a first app.
func TestShort(t *testing.T) {
	t.Parallel()
	for _, app := range []string{"counter", "notices", "marrow"} {
		source, err := os.ReadFile(filepath.Join(app, "main.go"))
		require.NoError(t, err)
		_, body, _ := strings.Cut(string(source), ")\n") // behind the imports
		assert.Less(t, lines(body), 40, app)
		page, err := os.ReadFile(filepath.Join(app, "index.html"))
		require.NoError(t, err)
		_, script, _ := strings.Cut(string(page), "<script")
		assert.Less(t, lines(script), 30, app)
	}
}

func lines(text string) (n int) {
	for line := range strings.Lines(text) {
		if s := strings.TrimSpace(line); s != "" && !strings.HasPrefix(s, "//") {
			n++
		}
	}
	return n
}

// A value that somebody else stored by hand does not stop an app.
func TestWrongKind(t *testing.T) {
	t.Parallel()
	base := serve(t, "counter")
	b, err := board.Join(base + "/boards/rowan-street")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	_, err = b.Put(t.Context(), "compost/barrows", value.Text("a lot"))
	require.NoError(t, err)
	one := start(t, "counter", base+"/boards/rowan-street")
	one.says("0 barrows (unreadable)")
	one.types("3")
	one.says("compost/barrows")
	_, _, err = board.On(b, pantry.Int("compost/barrows", 0)).Lookup(t.Context())
	assert.ErrorIs(t, err, pantry.ErrWrongKind)
}
