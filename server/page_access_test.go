package server_test

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"

	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The page shows no control that would be refused, and each right has a sentence.
func TestPageRights(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	for _, c := range []struct {
		may                            string
		steps, adds, edits, owns, back bool
		says                           string
	}{
		{may: "read", says: "You can look, but not change anything here."},
		{may: "add", says: "You can add, but not change or remove.", steps: true},
		{may: "write", steps: true, adds: true, edits: true, back: true},
		{may: "own", steps: true, adds: true, edits: true, owns: true, back: true},
	} {
		p := open(t, b, g.invited(c.may, ""))
		p.Shows(c.says)
		shows := func(selector string) bool {
			return browser.Eval[bool](p, `!!document.querySelector('`+selector+`')?.checkVisibility()`)
		}
		p.Until(fmt.Sprintf(`%v === !!document.querySelector('.step')`, c.steps))
		assert.Equal(t, []bool{c.adds, c.edits, c.owns, c.steps}, []bool{shows("#add"), shows("button.sw"), shows("#share"), shows(".chips .more")}, c.may)
		p.Until(`document.querySelector('.ticks').getAttribute('d')`)
		browser.Eval[bool](p, `document.querySelector('.slide').focus(), true`)
		p.Do(browser.Left)
		p.Until(`document.querySelector('.past-bar')`)
		assert.False(t, shows(".step") || shows("button.sw") || shows("#add"), "nothing is changed in the past")
		assert.Equal(t, c.back, browser.Eval[bool](p, `document.querySelector('.past-bar').innerText.includes('Take these back')`), c.may)
		p.Type("\x1b")
		p.Until(`!document.querySelector('.past-bar')`)
		if c.may != "add" {
			continue
		}
		press(p, `[data-name="tank/litres"]`, "Take 1 from tank/litres")
		p.Until(shown("tank/litres") + ` === '3,199'`)
		g.commit(`{"op":"put","name":"list/numbers","value":[1,2]}`)
		p.Until(card("list/numbers"))
		press(p, `[data-name="list/numbers"]`, "Append to list/numbers")
		p.Until(`document.activeElement.closest('.append')`)
		p.Type("3\r")
		p.Until(shown("list/numbers") + `.includes('3')`)
		assert.Contains(t, g.stored("list/numbers").body, `"value":[1,2,3],`, "an item has the kind of the others")
		selects(p, "tank/litres", "change")
		p.Fill("#tab .edit input", "ten")
		p.Click("#tab .edit button.main")
		p.Shows("This takes a whole number, such as 42.")
		selects(p, "gate/notice", "happened")
		assert.False(t, shows("#tab-change"), "an add link can't change a text")
	}
	p := open(t, b, g.invited("write", "gate/"))
	p.Until(`document.querySelectorAll('[data-name]').length === 2`)
	p.Click("#add")
	assert.Equal(t, "gate/", browser.Eval[string](p, `document.querySelector('dialog input').value`))
	press(p, "dialog", "Cancel")
	p.Click("#about")
	p.Shows("this link sees only gate/")
	assert.NotContains(t, p.Text("dialog"), "at most 10,000")
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", `{"closed":true}`).status)
	p = open(t, b, g.link)
	p.Click("#about")
	p.Shows("only declared names can be written")
	assert.False(t, browser.Eval[bool](p, `!!document.querySelector('#add')`))
}

// A link opens with its rights, and its token is left nowhere.
func TestPageKeepsTheToken(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	var mu sync.Mutex
	var log strings.Builder
	g := newGarden(t, server.Options{Log: slog.New(slog.NewTextHandler(lockedWriter{&mu, &log}, &slog.HandlerOptions{Level: slog.LevelDebug}))})
	_, token, _ := strings.Cut(g.link, "#")
	_, secret, _ := strings.Cut(token, ".")
	p := open(t, b, g.link)
	change(p, "tank/litres", "1")
	p.Until(shown("tank/litres") + ` === '1'`)
	const places = `location.href + document.documentElement.outerHTML + document.cookie + JSON.stringify(localStorage)`
	assert.NotContains(t, browser.Eval[string](p, places), secret)
	assert.EqualValues(t, 2, browser.Eval[int](p, `history.length`), "and no step back to it")
	for _, r := range p.Requests() {
		if !strings.HasSuffix(r, "#"+token) { // what the browser was told to open; a fragment is not sent
			assert.NotContains(t, r, secret)
		}
		assert.Contains(t, r, g.base, "nothing is fetched from elsewhere")
	}
	mu.Lock()
	assert.NotContains(t, log.String(), secret)
	mu.Unlock()
	p.Reload()
	p.Until(`document.querySelector('#connection.live')`)

	// An owner makes a link, which opens with its rights; then it is revoked, which asks first.
	p.Click("#share")
	p.Fill("dialog input[name=label]", "shed display")
	press(p, "dialog", "Make the link")
	p.Until(`document.querySelector('.made input')`)
	made := browser.Eval[string](p, `document.querySelector('.made input').value`)
	assert.Regexp(t, `^`+g.base+`/boards/rowan-street#\w+\.\w+$`, made)
	assert.Regexp(t, `^M\d`, browser.Eval[string](p, `document.querySelector('.qr path').getAttribute('d')`))
	p.Until(`[...document.querySelectorAll('.links li')].some(l => l.innerText.includes('shed display') && l.innerText.includes('may look'))`)
	p.Until(`[...document.querySelectorAll('.links li')].find(l => l.innerText.includes('this page uses it')).innerText.includes('own-link')`)
	other := open(t, b, made)
	other.Shows("You can look, but not change anything here.")
	press(p, "dialog", "Revoke shed display")
	p.Shows("All that use it stop working.")
	press(p, ".links", "Revoke it")
	other.Shows("This link does not open the board any more. Ask for a new one.")
	press(p, "dialog", "Close")
	p.Until(`!document.querySelector('dialog')`)

	// The link is kept on the device only on purpose, and until it is removed.
	address := g.base + "/boards/rowan-street"
	p.Click("#about")
	press(p, "dialog", "Keep on this device…")
	p.Shows("any page that this server serves could read the link")
	press(p, "dialog", "Keep it")
	p.Shows("The link is kept in this browser")
	browser.Eval[bool](p, `sessionStorage.clear(), true`) // as in a new tab
	p.Go(address)
	p.Until(`document.querySelector('#connection.live')`)
	p.Click("#about")
	press(p, "dialog", "Remove it from this device")
	assert.NotContains(t, browser.Eval[string](p, places), secret)
	browser.Eval[bool](p, `sessionStorage.clear(), true`)
	p.Go(address)
	p.Shows("This board opens by its link.", "Paste the link of the board")
	p.Fill("input[name=link]", "http://other.example/boards/rowan-street#x.y")
	press(p, ".paste", "Open it")
	p.Shows("This link leads to another server, other.example.")
	p.Fill("input[name=link]", g.link)
	press(p, ".paste", "Open it")
	p.Until(`document.querySelector('#connection.live')`)
	p.Until(`document.querySelector('[data-name]')`)
	p = b.Open(t, address+"#wrong.token")
	p.Shows("This link does not open the board any more.")
}

// A key's lines for an app, as the command keys prints them.
func TestPageCode(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", gardenKeys).status)
	p := open(t, b, g.link)
	selects(p, "tank/litres", "use")
	for language, line := range map[string]string{"Go": `pantry.Int("tank/litres", 0).Between(0, 5000)`, "JavaScript": `int("tank/litres", 0, {`, "Kotlin": "tankLitres", "Swift": "tankLitres", "curl": "/entries/tank/litres'"} {
		press(p, "#tab", language)
		p.Until(fmt.Sprintf(`document.querySelector('#tab pre').innerText.includes(%q)`, line))
	}
	_, secret, _ := strings.Cut(g.link, ".")
	assert.NotContains(t, p.Text("#tab pre"), secret)
	for query, status := range map[string]int{"code=go": 400, "code=cobol&name=tank/litres": 400, "name=tank/litres": 400, "code=go&name=none": 404, "code=go&name=gate/notice": 200, "code=js&name=map/small": 200, "code=go&name=plantings/1": 200} {
		assert.Equal(t, status, g.as(g.admin, "GET", gardenPath+"/keys?"+query, "").status, query)
	}
	_, bound, _ := strings.Cut(g.invited("read", "gate/"), "#")
	assert.Equal(t, "forbidden", g.as(bound, "GET", gardenPath+"/keys?code=go&name=tank/litres", "").code())
}

// A change that waits belongs to its link: a page with another link of the same browser shows it, and does
// not send it.
func TestPageOfAnotherLink(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	browser.Eval[bool](p, `{
		const real = fetch
		window.fetch = async (...a) => {
			if (a[1]?.method === 'POST') throw new TypeError('no network')
			return real(...a)
		}
		true
	}`)
	press(p, `[data-name="harvest/total-kg"]`, "Add 1 to harvest/total-kg")
	p.Until(card("harvest/total-kg") + `.querySelector('.note')?.innerText.includes(', waits')`)
	other := g.invited("write", "")
	p.Go(other)
	p.Until(`document.querySelector('#connection.live')`)
	p.Until(card("harvest/total-kg") + `?.querySelector('.note')?.innerText.includes('kept for another link of this browser')`)
	assert.Contains(t, g.stored("harvest/total-kg").body, `"value":5.0,`)
	p.Go(g.link)
	p.Until(shown("harvest/total-kg") + ` === '6.0'`)
	assert.Contains(t, g.stored("harvest/total-kg").json["by"], "own-link")
}

// The first visit of an empty board.
func TestPageFirstVisit(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := &garden{shared: startShared(t, server.Options{})}
	g.make("rowan-street")
	looks := b.Open(t, g.invited("read", ""))
	looks.Shows("Nothing is stored here yet. It shows as soon as something is.")
	p := b.Open(t, g.invited("own", ""))
	p.Shows("Nothing is stored here yet. Begin with one of these.", "Open this on your phone. Both change together.")
	p.Until(`document.querySelector('.qr')`)
	p.Click(".ghost:nth-of-type(3)")
	p.Until(card("hose/queue"))
	looks.Until(card("hose/queue"))
	assert.Contains(t, g.stored("hose/queue").body, `"kind":"list","value":[],`)
}

// Everything that is written on a board is text.
func TestPageHostile(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	payloads := []string{
		`<script>hurt()</script>`, `<img src=x onerror=hurt()>`, `"><svg onload=hurt()>`, `' onmouseover='hurt()`, `javascript:hurt()`, `<iframe src="javascript:hurt()">`, `</textarea><script>hurt()</script>`,
		`</title><script>hurt()</script>`, `<a href="javascript:hurt()">x</a>`, `<style>*{display:none}</style>`, `<base href="//x.example">`, `<meta http-equiv=refresh content="0;url=//x.example">`, `{{constructor.constructor('hurt()')()}}`, `${hurt()}`,
		`<math><mtext></form><form><mglyph><style></math><img src onerror=hurt()>`, `<details open ontoggle=hurt()>`, `<input autofocus onfocus=hurt()>`, `<form action=//x.example><button>`, `<object data="javascript:hurt()">`, `<embed src="javascript:hurt()">`, `<link rel=stylesheet href=//x.example>`,
		`<video><source onerror=hurt()>`, `<body onload=hurt()>`, "\u202egnp.exe", "\u202e<b>", `&lt;script&gt;hurt()`, `<!--><script>hurt()</script>-->`, `<![CDATA[<script>hurt()</script>]]>`, `__proto__`, `constructor`,
	}
	browser.Eval[bool](p, `window.hurt = () => { window.hurts = true }, true`)
	for i, payload := range payloads {
		quoted, err := json.Marshal(payload)
		require.NoError(t, err)
		name, err := json.Marshal(strings.ReplaceAll(payload, "/", "|"))
		require.NoError(t, err)
		g.commit(fmt.Sprintf(`{"op":"put","name":%s,"value":%s},{"op":"put","name":"list/%d","value":[%s,{%s:%s}]}`, name, quoted, i, quoted, quoted, quoted))
	}
	label, _ := json.Marshal(payloads[1])
	a := g.as(g.admin, "POST", gardenPath+"/tokens", fmt.Sprintf(`{"may":"own","label":%s}`, label))
	require.Equal(t, 201, a.status, a.body)
	require.Equal(t, 200, g.as(a.json["token"].(string), "PUT", gardenPath+"/entries/gate/notice", `"by"`, "Content-Type", typeJSON).status)
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", fmt.Sprintf(`{"keys":[{"name":"k","kind":"text","default":%s,"about":%s}]}`, label, label)).status)
	for _, payload := range payloads {
		p.Until(`!!` + card(strings.ReplaceAll(payload, "/", "|")))
	}
	p.Until(card("k"))
	p.Until(card("gate/notice") + `.textContent.includes('<img')`)
	p.Until(`[...document.querySelectorAll('[data-name]')].some(c => c.textContent.includes('⟨U+202E⟩gnp.exe'))`)
	selects(p, "list/3", "change")
	selects(p, "list/3", "happened")
	selects(p, "k", "use")
	press(p, "header", "Rows")
	p.Until(`document.querySelector('.rows')`)
	p.Click("#share")
	p.Until(`document.querySelector('.links').innerText.includes('<img')`)
	assert.False(t, browser.Eval[bool](p, `!!window.hurts || document.querySelectorAll('#app script, #app img, #app iframe, style, base').length > 0`))
	assert.NotContains(t, strings.Join(p.Requests(), "\n"), "x.example")

	head := g.as("", "GET", "/boards/rowan-street", "").header
	assert.Equal(t, "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'", head.Get("Content-Security-Policy"))
	assert.Equal(t, []string{"nosniff", "no-referrer"}, []string{head.Get("X-Content-Type-Options"), head.Get("Referrer-Policy")})
}
