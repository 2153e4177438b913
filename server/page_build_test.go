package server_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/internal/test/bundle"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/js"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A board of 10,000 entries, with some of 1 MiB, shows, filters and scrolls; and a page on which much
// happens does not grow.
func TestPageLarge(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	for from := 0; from < 9900; from += 990 {
		ops := make([]string, 0, 1000)
		for i := range 990 {
			ops = append(ops, fmt.Sprintf(`{"op":"put","name":"bed/%d/n","value":%d}`, from+i, from+i))
		}
		g.commit(strings.Join(ops, ","))
	}
	large := strings.Repeat("0123456789abcdef", 1<<16-8)
	for i := range 4 {
		require.Equal(t, 201, g.as(g.admin, "PUT", fmt.Sprint(gardenPath, "/entries/large/", i), `"`+large+`"`, "Content-Type", typeJSON).status)
	}
	p := open(t, b, g.link)
	p.Until(`document.querySelector('.rows')?.ariaRowCount === '9913'`)
	assert.Less(t, browser.Eval[int](p, `document.querySelectorAll('*').length`), 1500, "only what is in view is drawn")
	longest := func(script string) float64 {
		return browser.Eval[float64](p, `new Promise(async done => {
			let last = performance.now(), most = 0, on = true
			const tick = () => { const now = performance.now(); most = Math.max(most, now - last); last = now; on ? requestAnimationFrame(tick) : done(most) }
			requestAnimationFrame(tick)
			const frame = () => new Promise(requestAnimationFrame)
			`+script+`
			on = false })`)
	}
	filter := longest(`const f = document.getElementById('search'); for (const s of ['b', 'be', 'bed', 'bed/9', 'bed/99', '', 'large', '']) { f.value = s; f.dispatchEvent(new Event('input', {bubbles: true})); await frame() }`)
	scroll := longest(`for (let y = 0; y < 300000; y += 9000) { scrollTo(0, y); await frame() } scrollTo(0, 0)`)
	t.Logf("longest pause: filter %.0f ms, scroll %.0f ms; first view after %.0f ms", filter, scroll, browser.Eval[float64](p, `performance.getEntriesByName('shown')[0].startTime`))
	p.Fill("#search", "large")
	p.Until(card("large/1"))
	selects(p, "large/1", "change")
	assert.Equal(t, len(large), browser.Eval[int](p, `document.querySelector('#tab textarea').value.length`))

	small := open(t, b, g.invited("read", "bed/1/"))
	nodes := func() int { return browser.Eval[int](small, `document.querySelectorAll('*').length`) }
	churn := func(until time.Time) {
		for n := 0; time.Now().Before(until); n++ {
			g.commit(fmt.Sprintf(`{"op":"put","name":"bed/1/n","value":%d},{"op":"put","name":"bed/1/come/%d","value":1}`, n+50000, n%10))
			g.commit(fmt.Sprintf(`{"op":"drop","name":"bed/1/come/%d"}`, n%10))
		}
	}
	churn(time.Now().Add(soak.For(300*time.Millisecond, time.Second)))
	g.commit(`{"op":"put","name":"bed/1/n","value":-1}`)
	small.Until(shown("bed/1/n") + ` === '−1'`)
	before, heap := nodes(), small.Heap()
	churn(time.Now().Add(soak.For(700*time.Millisecond, 10*time.Minute)))
	g.commit(`{"op":"put","name":"bed/1/n","value":-2}`)
	small.Until(shown("bed/1/n") + ` === '−2'`)
	t.Logf("nodes %d, then %d; heap %d KiB, then %d KiB", before, nodes(), heap>>10, small.Heap()>>10)
	assert.LessOrEqual(t, nodes(), before+200)
	assert.LessOrEqual(t, small.Heap(), heap+8<<20)
}

// The page and the client are small, and asked for once.
func TestPageIsSmall(t *testing.T) {
	t.Parallel()
	packed := func(body []byte) int {
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		_, err := w.Write(body)
		require.NoError(t, errors.Join(err, w.Close()))
		return out.Len()
	}
	first := packed(js.Module)
	for _, f := range []string{"index.html", "page.js", "chunk.js", "page.css"} {
		raw, err := os.ReadFile(filepath.Join("page", f))
		require.NoError(t, err)
		first += packed(raw)
	}
	t.Logf("the first view is %d bytes, packed", first)
	assert.Less(t, first, 60_000)
	s := startShared(t, server.Options{})
	for _, path := range []string{"/boards/rowan-street", "/small-pantry.js", "/small-pantry.d.ts", "/small-pantry/page.js", "/small-pantry/page.css", "/small-pantry/worker.js"} {
		a := s.as("", "GET", path, "", "Origin", "https://garden.example")
		require.Equal(t, 200, a.status, path)
		assert.Empty(t, s.as("", "GET", path, "").header.Get("Access-Control-Allow-Origin"), "who is no page of another origin")
		assert.Contains(t, a.header.Get("Vary"), "Origin")
		again := s.as("", "GET", path, "", "If-None-Match", a.header.Get("ETag"))
		assert.Equal(t, []any{304, ""}, []any{again.status, again.body}, path)
		assert.Equal(t, "*", a.header.Get("Access-Control-Allow-Origin"), path)
	}
	for accept, packed := range map[string]bool{"gzip, deflate, br": true, "br;q=1, GZIP;q=0.5": true, "gzip;q=0": false, "identity": false, "": false} {
		for _, path := range []string{"/boards/rowan-street", "/small-pantry.js"} {
			rq, err := http.NewRequest("GET", s.base+path, nil)
			require.NoError(t, err)
			rq.Header.Set("Accept-Encoding", accept) // which has Go's client leave the answer as it is
			resp, err := http.DefaultClient.Do(rq)
			require.NoError(t, err)
			raw, err := io.ReadAll(resp.Body)
			require.NoError(t, errors.Join(err, resp.Body.Close()))
			assert.Equal(t, packed, resp.Header.Get("Content-Encoding") == "gzip", accept)
			assert.Equal(t, packed, strings.HasSuffix(resp.Header.Get("ETag"), `-gzip"`), accept)
			assert.Contains(t, resp.Header.Get("Vary"), "Accept-Encoding")
			if packed {
				r, err := gzip.NewReader(bytes.NewReader(raw))
				require.NoError(t, err)
				raw, err = io.ReadAll(r)
				require.NoError(t, err)
			}
			assert.Equal(t, s.as("", "GET", path, "").body, string(raw), accept)
		}
	}
	for path, status := range map[string]int{"/small-pantry/none.js": 404, "/small-pantry/index.html": 404, "/boards/b%2Fad": 400, "/boards/": 404, "/small-pantry/": 404} {
		assert.Equal(t, status, s.as("", "GET", path, "").status, path)
	}
	assert.Equal(t, 405, s.as("", "POST", "/boards/rowan-street", "").status)
	for path, kind := range map[string]string{"/boards/rowan-street": "html", "/": "html", "/small-pantry.js": "javascript", "/small-pantry/page.css": "css", "/small-pantry.d.ts": "plain"} {
		assert.Equal(t, "text/"+kind+"; charset=utf-8", s.as("", "GET", path, "").header.Get("Content-Type"), path)
	}
}

// What is served is bundled from page/src.
func TestPageIsBuilt(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("page/node_modules/preact"); err != nil && os.Getenv("CI") != "true" {
		t.Skip("the page's packages are missing: make test installs them")
	}
	out, err := bundle.Build(".", t.TempDir(), nil)
	require.NoError(t, err)
	for _, name := range bundle.Files {
		made, err := os.ReadFile(filepath.Join(out, name))
		require.NoError(t, err)
		kept, err := os.ReadFile(filepath.Join("page", name))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(made, kept), "page/src was changed: go generate ./server (%s)", name)
	}
}

// The page's computations, on their own.
func TestPageModel(t *testing.T) {
	t.Parallel()
	browser.Need(t, "node")
	dir := t.TempDir()
	model := filepath.Join(dir, "model.mjs")
	out, err := exec.Command("go", "tool", "esbuild", "page/src/model.js", "--bundle", "--format=esm", "--external:/small-pantry.js", "--outfile="+model).CombinedOutput()
	require.NoError(t, err, string(out))
	raw, err := os.ReadFile(model)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "client.mjs"), js.Module, 0o600))
	require.NoError(t, os.WriteFile(model, bytes.Replace(raw, []byte(`"/small-pantry.js"`), []byte(`"./client.mjs"`), 1), 0o600))
	out, err = exec.Command("node", "page/src/model_test.mjs", model).CombinedOutput()
	require.NoError(t, err, string(out))
}

// Draws the pictures of docs/screenshots, into the directory of SCREENSHOTS.
func TestPageShots(t *testing.T) {
	dir := os.Getenv("SCREENSHOTS")
	if dir == "" {
		t.Skip("SCREENSHOTS names no directory")
	}
	b := browser.Start(t)
	g := gardenOfADay(t)
	shot := func(p *browser.Page, name string) { p.Shot(filepath.Join(dir, name+".png")) }
	settled := func() { time.Sleep(1200 * time.Millisecond) }
	p := open(t, b, g.link)
	p.Until(`document.querySelector('.spark')`)
	settled()
	shot(p, "page")
	selects(p, "tank/litres", "happened")
	p.Until(`document.querySelector('.chart canvas')`)
	settled()
	shot(p, "page-entry")
	browser.Eval[bool](p, `{const s = document.querySelector('.slide'), r = s.getBoundingClientRect(); for (const [type, at] of [['pointerdown', .7], ['pointermove', .6], ['pointerup', .6]]) s.dispatchEvent(new PointerEvent(type, {bubbles: true, clientX: r.x + r.width * at, clientY: r.y + 9, pointerId: 1, button: 0})); true}`)
	p.Until(`document.querySelector('.past-bar')`)
	press(p, ".past-bar", "Take these back…")
	settled()
	shot(p, "page-past")
	p.Type("\x1b")
	press(p, ".past-bar", "Back to now")
	press(p, "aside", "Close")
	p.Click("#share")
	p.Fill("dialog input[name=label]", "shed display")
	press(p, "dialog", "Make the link")
	p.Until(`document.querySelector('.made input')`)
	browser.Eval[bool](p, `document.querySelector('.made input').value = document.querySelector('.made input').value.replace(/#.*/, '#…'), true`)
	settled()
	shot(p, "page-share")
	press(p, "dialog", "Close")
	selects(p, "tank/litres", "change")
	p.Fill("#tab .edit input", "3000")
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/entries/tank/litres", `{"op":"add","amount":-500}`).status)
	p.Type("\r")
	p.Until(`document.querySelector('#tab .note')`)
	settled()
	shot(p, "page-conflict")
	press(p, "#tab", "Keep theirs")
	press(p, "#tab", "Give up my change")
	press(p, "aside", "Close")
	p.Dark(true, false)
	p.Size(390, 844)
	settled()
	shot(p, "page-phone")
	p.Dark(false, false)
	p.Size(1280, 800)
	g.stop()
	p.Shows("No connection since")
	p.Click(`[data-name="gate/open"] .sw`)
	press(p, `[data-name="harvest/total-kg"]`, "Add 1 to harvest/total-kg")
	p.Until(`document.querySelectorAll('.note').length === 2`)
	settled()
	shot(p, "page-outage")

	many := newGarden(t, server.Options{})
	for from := 0; from < 9900; from += 990 {
		ops := make([]string, 0, 990)
		for i := range 990 {
			n := from + i
			ops = append(ops, fmt.Sprintf(`{"op":"put","name":"bed/%c%d/watered","typed":"2026-05-%02dT%02d:%02d:00Z","kind":"time"}`, 'A'+n%6, n/6, 1+n%28, 6+n%14, n%60))
		}
		many.commit(strings.Join(ops, ","))
	}
	p = open(t, b, many.link)
	p.Until(`document.querySelector('.rows')?.ariaRowCount === '9909'`)
	settled()
	shot(p, "page-rows")
}
