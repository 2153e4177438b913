package server_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/js"
	"github.com/small-pantry/pantry/pantrytest"
	"github.com/small-pantry/pantry/server"
)

// A garden is a board with what the demo has on it, and its owner's link.
type garden struct {
	*shared
	link string
}

const gardenPath = "/v1/boards/rowan-street"

func newGarden(t *testing.T, o server.Options) *garden {
	g := &garden{shared: startShared(t, o)}
	g.make("rowan-street")
	g.link = g.invited("own", "")
	g.commit(`{"op":"put","name":"tank/litres","value":3200},{"op":"put","name":"gate/open","value":true},{"op":"put","name":"gate/notice","value":"Water at 6, box 2"},
		{"op":"put","name":"hose/queue","value":["C4","B2"]},{"op":"put","name":"harvest/total-kg","value":5.0},{"op":"put","name":"rain/drops","value":9007199254740993},
		{"op":"put","name":"map/small","value":"AAcOFQ==","as":"bytes"},{"op":"put","name":"plantings/1","value":{"crop":"beans","spacing":30.0}}`)
	return g
}

// invited makes a link.
func (g *garden) invited(may, prefix string) string {
	g.t.Helper()
	a := g.as(g.admin, "POST", gardenPath+"/tokens", fmt.Sprintf(`{"may":%q,"prefix":%q,"label":"%s-link"}`, may, prefix, may))
	if prefix == "" {
		a = g.as(g.admin, "POST", gardenPath+"/tokens", fmt.Sprintf(`{"may":%q,"label":"%s-link"}`, may, may))
	}
	require.Equal(g.t, 201, a.status, a.body)
	return a.json["link"].(string)
}

func (g *garden) commit(ops string) {
	g.t.Helper()
	a := g.as(g.admin, "POST", gardenPath+"/commit", `{"ops":[`+ops+`]}`)
	require.Equal(g.t, 200, a.status, a.body)
}

// stored gives an entry as the server has it.
func (g *garden) stored(name string) answer {
	g.t.Helper()
	return g.as(g.admin, "GET", gardenPath+"/entries/"+name, "")
}

// row is the script that finds the row of a name.
func row(name string) string {
	return fmt.Sprintf(`[...document.querySelectorAll('#table tbody tr')].find(r => r.querySelector('.name')?.textContent === %q)`, name)
}

// A table shows in a row's cell.
func value(name string) string { return row(name) + `?.querySelector('.value').innerText` }

// open opens the page of a link, and waits until it shows what is there.
func open(t *testing.T, b *browser.Browser, link string) *browser.Page {
	p := b.Open(t, link)
	p.Until(`document.querySelector('#connection.live')`)
	p.Until(`document.querySelector('#table tbody tr')`)
	return p
}

// edits opens the editor of a row.
func edits(p *browser.Page, name string) {
	browser.Eval[bool](p, row(name)+`.querySelector('button.shown').click(), true`)
	p.Until(row(name) + `.querySelector('.edit')`)
}

// change makes another value of a row, as somebody who clicks and types.
func change(p *browser.Page, name, typed string) {
	edits(p, name)
	p.Fill(".edit input[type=text], .edit textarea", typed)
	p.Click(".edit button.main")
}

// Two people see what each does, as it happens.
func TestPageFollows(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	one, two := open(t, b, g.link), open(t, b, g.invited("write", ""))
	change(one, "tank/litres", "3190")
	two.Until(value("tank/litres") + ` === '3190'`)
	two.Until(row("tank/litres") + `.classList.contains('fresh')`)
	two.Until(row("tank/litres") + `.querySelector('.by').textContent.startsWith('own-link')`)
	two.Until(row("tank/litres") + `.querySelector('svg.course')?.getAttribute('aria-label') === 'least 3190, most 3200, last 3190'`)
	two.Until(`(document.querySelector('#happened li')?.innerText ?? '').includes('tank/litres 3200 → 3190')`)
	two.Until(`document.getElementById('news').textContent === 'tank/litres is 3190'`)

	// Adding, of the kind that it reads as and of one that is chosen.
	for _, c := range []struct{ name, typed, kind, is string }{
		{"frost/warning", "false", "", `{"kind":"bool","value":false}`}, {"box", "007", "", `{"kind":"text","value":"007"}`}, {"weight", "5", "float", `{"kind":"float","value":5.0}`},
		{"beds", "A1, B2", "list", `{"kind":"list","value":["A1","B2"]}`}, {"at", "2026-05-03T09:00:00.123456789Z", "time", `{"kind":"time","value":"2026-05-03T09:00:00.123456789Z"}`},
	} {
		one.Fill("#add input[name=name]", c.name)
		one.Fill("#add input[name=value]", c.typed)
		browser.Eval[bool](one, fmt.Sprintf(`document.querySelector('#add select').value = %q, true`, c.kind))
		one.Type("\r")
		two.Until(row(c.name))
		for member, want := range g.unmarshal(c.is) {
			assert.Equal(t, want, g.stored(c.name).json[member], c.name)
		}
	}
	one.Fill("#add input[name=name]", "box")
	one.Fill("#add input[name=value]", "1")
	one.Type("\r")
	one.Shows("box is there already: change it in its row.")

	// Removing, and putting back, with all its digits.
	browser.Eval[bool](one, row("rain/drops")+`.querySelector('.remove').click(), true`)
	two.Until("!" + row("rain/drops"))
	one.Until(row("rain/drops") + `.classList.contains('gone')`)
	browser.Eval[bool](one, row("rain/drops")+`.querySelector('.note button').click(), true`)
	two.Until(value("rain/drops") + ` === '9007199254740993'`)
	assert.Equal(t, []any{"int", json.Number("9007199254740993")}, []any{g.stored("rain/drops").json["kind"], g.stored("rain/drops").json["value"]})

	// Whatever comes in while somebody types stays out of what he types.
	edits(one, "gate/notice")
	one.Fill(".edit input", "Water at 7")
	change(two, "tank/litres", "3000")
	one.Until(value("tank/litres") + ` === '3000'`)
	assert.Equal(t, "Water at 7", browser.Eval[string](one, `document.querySelector('.edit input').value`))
	one.Type("\x1b")
	one.Until(value("gate/notice") + ` === 'Water at 6, box 2'`)
}

// unmarshal reads an object as ask does.
func (g *garden) unmarshal(s string) (m map[string]any) {
	g.t.Helper()
	d := json.NewDecoder(strings.NewReader(s))
	d.UseNumber()
	require.NoError(g.t, d.Decode(&m))
	return m
}

// A kind stays unless it is changed on purpose; what is refused is said in a sentence, and what
// was typed stays.
func TestPageKinds(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", `{"keys":[
		{"name":"tank/litres","kind":"int","default":0,"min":0,"max":5000,"about":"what is in the tank"},{"name":"units","kind":"text","default":"metric","choices":["metric","imperial"]},
		{"name":"frost/warning","kind":"bool","default":false},{"name":"level","kind":"int","default":7}]}`).status)
	p := open(t, b, g.link)
	p.Until(value("level") + ` === '7 default'`)
	p.Until(value("units") + ` === 'metric default'`)
	for _, c := range []struct{ name, typed, kind, value string }{
		{"gate/notice", "true", "text", `"true"`}, {"harvest/total-kg", "6", "float", "6.0"}, {"harvest/total-kg", "-0.0", "float", "-0.0"}, {"rain/drops", "-9223372036854775808", "int", "-9223372036854775808"},
		{"hose/queue", "C4\n5\n5.0\n\"5\"\n[1]\nfrühe Beete", "list", `["C4",5,5.0,"5",[1],"frühe Beete"]`}, {"plantings/1", `{"crop":"peas","n":9007199254740993}`, "map", `{"crop":"peas","n":9007199254740993}`},
		{"map/small", "/wA=", "bytes", `"/wA="`}, {"gate/notice", "", "text", `""`},
	} {
		change(p, c.name, c.typed)
		p.Until(`!document.querySelector('.edit')`)
		a := g.stored(c.name)
		assert.Equal(t, c.kind, a.json["kind"], c.name)
		assert.Contains(t, a.body, `"value":`+c.value+`,`, c.name)
	}
	p.Until(value("gate/notice") + ` === 'empty'`)
	// An editor shows all of what is there, and storing it again changes nothing.
	edits(p, "hose/queue")
	assert.Equal(t, "C4\n5\n5.0\n\"5\"\n[1]\nfrühe Beete", browser.Eval[string](p, `document.querySelector('.edit textarea').value`))
	version := g.stored("hose/queue").json["version"]
	p.Click(".edit button.main")
	p.Until(`!document.querySelector('.edit')`)
	assert.Equal(t, version, g.stored("hose/queue").json["version"])

	// On purpose.
	edits(p, "rain/drops")
	browser.Eval[bool](p, `{const s = document.querySelector('.edit select'); s.value = 'text'; s.dispatchEvent(new Event('change')); true}`)
	p.Fill(".edit input", "many")
	p.Click(".edit button.main")
	p.Until(value("rain/drops") + ` === 'many'`)
	assert.Equal(t, "text", g.stored("rain/drops").json["kind"])

	// What is declared has its inputs: a range, choices, a switch.
	edits(p, "tank/litres")
	assert.Contains(t, p.Text(".edit .range"), "what is in the tank · 0 to 5000")
	assert.False(t, browser.Eval[bool](p, `!!document.querySelector('.edit select')`), "a declared kind is not to choose")
	p.Fill(".edit input", "9000")
	p.Type("\r")
	p.Until(`document.querySelector('.edit .said').textContent.includes('9000 is over 5000')`)
	assert.Equal(t, "9000", browser.Eval[string](p, `document.querySelector('.edit input').value`))
	p.Fill(".edit input", "many")
	p.Type("\r")
	p.Until(`document.querySelector('.edit .said').textContent.includes('many')`)
	p.Type("\x1b")
	edits(p, "units")
	assert.Equal(t, "metric,imperial", browser.Eval[string](p, `[...document.querySelectorAll('.edit select option')].map(o => o.value).join()`))
	browser.Eval[bool](p, `document.querySelector('.edit select').value = 'imperial', true`)
	p.Click(".edit button.main")
	p.Until(value("units") + ` === 'imperial'`)
	edits(p, "frost/warning")
	p.Click(".edit input[role=switch]")
	p.Click(".edit button.main")
	p.Until(value("frost/warning") + ` === 'true'`)
}

// Somebody was faster: the other value is shown, with both ways out.
func TestPageConflict(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	race := func(mine string, theirs func()) {
		edits(p, "tank/litres")
		p.Fill(".edit input", mine)
		theirs()
		p.Type("\r")
		p.Until(`document.querySelector('.edit .line:not([hidden]) + .said, .edit .said').textContent.includes('was faster')`)
	}
	race("1", func() { g.commit(`{"op":"put","name":"tank/litres","value":2}`) })
	assert.Contains(t, p.Text(".edit .said"), "it is 2 now")
	browser.Eval[bool](p, `[...document.querySelectorAll('.edit button')].find(b => b.innerText === 'Keep theirs').click(), true`)
	p.Until(value("tank/litres") + ` === '2'`)
	race("3", func() { g.commit(`{"op":"put","name":"tank/litres","value":4}`) })
	browser.Eval[bool](p, `[...document.querySelectorAll('.edit button')].find(b => b.innerText === 'Store mine').click(), true`)
	p.Until(value("tank/litres") + ` === '3'`)
	race("5", func() { g.commit(`{"op":"drop","name":"tank/litres"}`) })
	assert.Contains(t, p.Text(".edit .said"), "has removed it")
	browser.Eval[bool](p, `[...document.querySelectorAll('.edit button')].find(b => b.innerText === 'Store mine').click(), true`)
	p.Until(value("tank/litres") + ` === '5'`)
	assert.EqualValues(t, json.Number("5"), g.stored("tank/litres").json["value"])
}

// An entry is removed only as the page shows it: a change that comes in between is not lost.
func TestPageRemovesWhatItShows(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	browser.Eval[bool](p, `{
		const real = fetch
		window.held = new Promise(f => { window.goOn = f })
		window.fetch = async (...a) => {
			if (a[1]?.method && a[1].method !== 'GET') { window.asked = true; await held }
			return real(...a)
		}
		true
	}`)
	browser.Eval[bool](p, row("tank/litres")+`.querySelector('.remove').click(), true`)
	p.Until(`window.asked`)
	g.commit(`{"op":"put","name":"tank/litres","value":7}`)
	browser.Eval[bool](p, `goOn(), true`)
	p.Until(value("tank/litres") + `.startsWith('7')`)
	p.Shows("was not removed")
	assert.Equal(t, json.Number("7"), g.stored("tank/litres").json["value"])
}

// An entry of a board that was made again shows its new value and is marked as changed, though its
// version is the same.
func TestPageOfABoardThatIsMadeAgain(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/rowan-street"
	ask(t, "PUT", at+"/entries/tank/litres", "1")
	p := open(t, b, base+"/boards/rowan-street")
	p.Until(value("tank/litres") + ` === '1'`)
	// The page is without a network meanwhile, so that it never hears of an absent entry.
	browser.Eval[bool](p, `{
		const real = fetch
		window.blocked = true
		window.fetch = async (...a) => {
			if (window.blocked) throw new TypeError('no network')
			return real(...a)
		}
		true
	}`)
	require.Equal(t, 204, ask(t, "DELETE", at, "").status)
	a := ask(t, "PUT", at+"/entries/tank/litres", "2")
	require.Equal(t, json.Number("1"), a.json["version"])
	browser.Eval[bool](p, `window.blocked = false, true`)
	p.Until(value("tank/litres") + ` === '2'`)
	p.Until(row("tank/litres") + `.classList.contains('fresh')`)
}

// Nobody sees a control that would be refused, and each right is said in a sentence.
func TestPageRights(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	for _, c := range []struct {
		may                        string
		edits, adds, removes, owns bool
		says                       string
		editable, restoresThePast  bool
	}{
		{may: "read", says: "You may look, but not change anything here."},
		{may: "add", says: "You may count and append, and overwrite nothing.", edits: true},
		{may: "write", edits: true, adds: true, removes: true, restoresThePast: true},
		{may: "own", edits: true, adds: true, removes: true, owns: true, restoresThePast: true},
	} {
		p := open(t, b, g.invited(c.may, ""))
		p.Shows("What happened", c.says)
		p.Until(fmt.Sprintf(`%v === (document.querySelectorAll('#table [aria-label$="Change"]').length > 0)`, c.edits))
		shown := func(selector string) bool {
			return browser.Eval[bool](p, `!!document.querySelector('`+selector+`')?.checkVisibility()`)
		}
		assert.Equal(t, []bool{c.adds, c.removes, c.owns}, []bool{shown("#add"), shown("#table .remove"), shown("#share")}, c.may)
		p.Until(`document.querySelector('#happened li button')`)
		p.Click("#happened li button")
		p.Shows("This is the past.")
		assert.Equal(t, c.restoresThePast, shown("#restore"), c.may)
		p.Click("#present")
		if c.may != "add" {
			continue
		}
		assert.False(t, browser.Eval[bool](p, `!!`+row("gate/notice")+`.querySelector('[aria-label$="Change"]')`), "a text can't be counted")
		change(p, "tank/litres", "-10")
		p.Until(value("tank/litres") + ` === '3190'`)
		change(p, "hose/queue", "A1")
		p.Until(value("hose/queue") + `.includes('3 items: C4, B2, A1')`)
		change(p, "tank/litres", "ten")
		p.Shows("This takes a number.")
	}
	p := open(t, b, g.invited("write", "gate/"))
	p.Until(`document.querySelectorAll('#table tbody tr').length === 2`)
	assert.Equal(t, "gate/", browser.Eval[string](p, `document.querySelector('#add input').value`))
	p.Shows("only gate/")
	assert.NotContains(t, p.Text("#facts"), "entries")
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", `{"closed":true}`).status)
	p = open(t, b, g.link)
	p.Shows("only declared names")
	assert.False(t, browser.Eval[bool](p, `document.querySelector('#add').checkVisibility()`))
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
	p.Until(value("tank/litres") + ` === '1'`)
	assert.NotContains(t, browser.Eval[string](p, `location.href + document.documentElement.outerHTML + document.cookie + JSON.stringify(localStorage)`), secret)
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

	// An owner makes a link, which opens with its rights; then it is revoked.
	p.Click("#share")
	browser.Eval[bool](p, `document.querySelector('#sharing input[value=read]').click(), true`)
	p.Fill("#sharing input[name=label]", "shed display")
	p.Click("#sharing button.main")
	p.Until(`document.getElementById('link').value`)
	made := browser.Eval[string](p, `document.getElementById('link').value`)
	assert.Regexp(t, `^`+g.base+`/boards/rowan-street#\w+\.\w+$`, made)
	assert.Regexp(t, `^M\d`, browser.Eval[string](p, `document.querySelector('#made path').getAttribute('d')`))
	p.Until(`document.getElementById('links').innerText.includes('shed display: may look')`)
	other := open(t, b, made)
	other.Shows("You may look, but not change anything here.")
	browser.Eval[bool](p, `document.querySelector('#links [aria-label="Revoke shed display"]').click(), true`)
	other.Shows("This link is no longer valid.")
	p.Click("#sharing button[value=close]")
	p.Until(`document.getElementById('link').value + document.querySelector('#made path').getAttribute('d') === ''`)
	p = b.Open(t, g.base+"/boards/rowan-street")
	p.Shows("This board is opened by its link")
	p = b.Open(t, g.base+"/boards/rowan-street#wrong.token")
	p.Shows("This link is no longer valid.")
}

// What happened, and a moment to go back to.
func TestPagePast(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	g.commit(`{"op":"put","name":"tank/litres","value":10},{"op":"drop","name":"gate/open"},{"op":"put","name":"gate/new","value":"x"}`)
	p.Until(`(t => t.includes('tank/litres 3200 → 10') && t.includes('gate/open true → nothing') && t.includes('gate/new nothing → x'))((document.querySelector('#happened li')?.innerText ?? ''))`)
	browser.Eval[bool](p, `document.querySelectorAll('#happened li button')[1].click(), true`)
	p.Shows("This is the past.")
	assert.Equal(t, "3200", browser.Eval[string](p, value("tank/litres")))
	assert.False(t, browser.Eval[bool](p, `!!document.querySelector('#table [aria-label$="Change"], #table .remove') || !!`+row("gate/new")))
	g.commit(`{"op":"put","name":"tank/litres","value":11}`)
	p.Until(`(document.querySelector('#happened li')?.innerText ?? '').includes('10 → 11')`)
	assert.Equal(t, "3200", browser.Eval[string](p, value("tank/litres")), "the past stays as it was")
	p.Click("#restore")
	p.Until(`document.getElementById('past').hidden`)
	p.Until(value("tank/litres") + ` === '3200'`)
	p.Until(row("gate/open"))
	p.Until("!" + row("gate/new"))
	assert.EqualValues(t, json.Number("3200"), g.stored("tank/litres").json["value"])
	for i := range 30 {
		g.commit(fmt.Sprintf(`{"op":"put","name":"tank/litres","value":%d}`, i))
	}
	p.Until(`document.querySelectorAll('#happened li').length >= 20`)
	p.Click("#older")
	p.Until(`document.querySelectorAll('#happened li').length > 30`)
}

// A server that goes away and comes back: what is shown is said to be old, and what is changed
// meanwhile is kept and sent, over a reload too. A board that is removed is said to be.
func TestPageOutage(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	s := pantrytest.NewServer(t)
	put := func(value string) {
		a := ask(t, "PUT", strings.Replace(s.Link("rowan-street"), "/boards/", "/v1/boards/", 1)+"/entries/tank/litres", value)
		require.Less(t, a.status, 300, a.body)
	}
	put("5")
	p := open(t, b, s.Link("rowan-street"))
	s.Cut(true)
	p.Shows("No connection since", "what you change is kept and sent later.")
	change(p, "tank/litres", "6")
	p.Shows("A change of yours waits to be sent.", "One change of yours waits to be sent.")
	assert.Contains(t, browser.Eval[string](p, value("tank/litres")), "5", "what is not stored is not shown as stored")
	s.Cut(false)
	p.Until(value("tank/litres") + ` === '6'`)
	p.Until(`document.querySelector('#connection.live')`)
	p.Until(`document.getElementById('waiting').hidden`)

	// Somebody has stored something else meanwhile.
	s.Cut(true)
	p.Shows("No connection since")
	change(p, "tank/litres", "7")
	p.Shows("A change of yours waits to be sent.")
	change(p, "tank/litres", "8")
	p.Until(`document.getElementById('waiting').innerText.includes('wait')`)
	s.Cut(false)
	put("100")
	p.Until(`document.querySelector('.note:not(.on-its-way)') || ` + value("tank/litres") + ` === '8'`)
	p.Until(`document.querySelector('#connection.live')`)

	a := ask(t, "DELETE", strings.Replace(s.Link("rowan-street"), "/boards/", "/v1/boards/", 1), "")
	require.Equal(t, 204, a.status)
	p.Shows("This board was removed.")
	p = b.Open(t, s.Link("new-board"))
	p.Shows("Nothing is stored here yet. The first value, from anywhere:", "curl -X PUT "+strings.Replace(s.Link("new-board"), "/boards/", "/v1/boards/", 1)+"/entries/tank/litres -d 420")
	front := b.Open(t, strings.TrimSuffix(s.Link("x"), "boards/x"))
	front.Shows("/boards/rowan-street")
}

// By keyboard alone.
func TestPageByKeyboard(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	p.Until(`document.querySelector('#table [aria-label$="Change"]')`)
	p.Type("/")
	p.Until(`document.activeElement.id === 'filter'`)
	p.Fill("#filter", "tank") // a key that comes from the keyboard is not typed besides
	p.Until(`document.querySelectorAll('#table tbody tr').length === 1`)
	p.Do(browser.Down)
	p.Until(`document.activeElement.innerText === '3200'`)
	p.Type("\r")
	p.Until(`document.activeElement.matches('.edit input')`)
	p.Type("42\r")
	p.Until(`document.activeElement.innerText === '42'`)
	assert.NotEqual(t, "none", browser.Eval[string](p, `getComputedStyle(document.activeElement).outlineStyle`), "focus is seen")
	p.Do(browser.Delete)
	p.Until(row("tank/litres") + `.classList.contains('gone')`)
	p.Type("\r") // put back
	p.Until(value("tank/litres") + ` === '42'`)
	p.Until(`document.activeElement === document.body || document.activeElement.innerText === '42'`)
	browser.Eval[bool](p, `{document.getElementById('filter').value = ''; document.getElementById('filter').dispatchEvent(new Event('input')); document.activeElement.blur(); true}`)
	p.Type("?")
	p.Until(`document.getElementById('help').open`)
	p.Type("\x1b")
	p.Until(`!document.getElementById('help').open`)
	order := browser.Eval[string](p, `[...document.querySelectorAll('button, input, select')].filter(e => e.checkVisibility() && e.tabIndex >= 0).map(e => e.id || e.name || e.className).slice(0, 4).join()`)
	assert.Equal(t, "share,help-button,filter,shown", order, "the order of Tab is that of reading")
}

// Checked with axe-core, light and dark, wide and as wide as a phone.
func TestPageIsAccessible(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	axe, err := os.ReadFile(filepath.Join("..", "js", "node_modules", "axe-core", "axe.min.js"))
	if err != nil && os.Getenv("CI") != "true" {
		t.Skip("axe-core is missing: make test installs it")
	}
	require.NoError(t, err)
	g := newGarden(t, server.Options{})
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", `{"keys":[{"name":"level","kind":"int","default":7}]}`).status)
	p := open(t, b, g.link)
	p.Until(row("level"))
	browser.Eval[bool](p, string(axe)+"; true")
	check := func(what string) {
		t.Helper()
		found := browser.Eval[string](p, `axe.run().then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html + ' ' + n.failureSummary).join('\n')).join('\n'))`)
		assert.Empty(t, found, what)
	}
	for _, size := range []int64{1280, 390} {
		p.Size(size, 844)
		for _, dark := range []bool{false, true} {
			p.Dark(dark, true)
			check(fmt.Sprint("the table ", size, dark))
			edits(p, "gate/notice")
			check(fmt.Sprint("an editor ", size, dark))
			p.Type("\x1b")
			p.Click("#share")
			check(fmt.Sprint("sharing ", size, dark))
			p.Click("#sharing button[value=close]")
		}
	}
	assert.LessOrEqual(t, browser.Eval[int](p, `document.documentElement.scrollWidth`), 390, "nothing scrolls sideways")
	small := browser.Eval[string](p, `[...document.querySelectorAll('button, input:not([type=radio]), select, summary')].filter(e => e.checkVisibility() && e.getBoundingClientRect().height < 44).map(e => e.outerHTML).join('\n')`)
	assert.Empty(t, small, "every target is 44 px high")
}

// Whatever is written on a board is text.
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
		p.Until(value(strings.ReplaceAll(payload, "/", "|")) + ` !== undefined`)
	}
	p.Until(row("k"))
	p.Until(row("gate/notice") + `.querySelector('.by').textContent.includes('<img')`)
	edits(p, "list/3")
	p.Click("#share")
	p.Until(`document.getElementById('links').innerText.includes('<img')`)
	assert.False(t, browser.Eval[bool](p, `!!window.hurts || document.querySelectorAll('#table script, #table img, #table iframe, #happened img, #links img, style, base').length > 0`))
	assert.NotContains(t, strings.Join(p.Requests(), "\n"), "x.example")

	head := g.as("", "GET", "/boards/rowan-street", "").header
	assert.Equal(t, "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'", head.Get("Content-Security-Policy"))
	assert.Equal(t, []string{"nosniff", "no-referrer"}, []string{head.Get("X-Content-Type-Options"), head.Get("Referrer-Policy")})
}

// A board of 1,000 entries and one of 1 MiB values is filtered and scrolled without a pause; and
// a page on which much happens does not grow.
func TestPageLarge(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	ops := make([]string, 0, 1000)
	for i := range 990 {
		ops = append(ops, fmt.Sprintf(`{"op":"put","name":"bed/%d/n","value":%d}`, i, i))
	}
	g.commit(strings.Join(ops, ","))
	large := strings.Repeat("0123456789abcdef", 1<<16-8)
	for i := range 4 {
		require.Equal(t, 201, g.as(g.admin, "PUT", fmt.Sprint(gardenPath, "/entries/large/", i), `"`+large+`"`, "Content-Type", typeJSON).status)
	}
	p := open(t, b, g.link)
	p.Until(`scrollTo(0, document.body.scrollHeight), document.querySelectorAll('#table tbody tr').length > 1000`)
	p.Until(`document.getElementById('more').hidden`)
	longest := func(script string) float64 {
		return browser.Eval[float64](p, `new Promise(async done => {
			let last = performance.now(), most = 0, on = true
			const tick = () => { const now = performance.now(); most = Math.max(most, now - last); last = now; on ? requestAnimationFrame(tick) : done(most) }
			requestAnimationFrame(tick)
			const frame = () => new Promise(requestAnimationFrame)
			`+script+`
			on = false })`)
	}
	filter := longest(`const f = document.getElementById('filter'); for (const s of ['b', 'be', 'bed', 'bed/9', 'bed/99', '', 'large', '']) { f.value = s; f.dispatchEvent(new Event('input')); await frame() }`)
	scroll := longest(`for (let y = 0; y < 30000; y += 900) { scrollTo(0, y); await frame() } scrollTo(0, 0)`)
	t.Logf("longest pause: filter %.0f ms, scroll %.0f ms", filter, scroll)
	p.Fill("#filter", "large")
	p.Until(row("large/1"))
	edits(p, "large/1")
	assert.Equal(t, len(large), browser.Eval[int](p, `document.querySelector('.edit textarea').value.length`))
	p.Type("\x1b")

	small := open(t, b, g.invited("read", "bed/"))
	nodes := func() int { return browser.Eval[int](small, `document.querySelectorAll('*').length`) }
	churn := func(until time.Time) {
		for n := 0; time.Now().Before(until); n++ {
			g.commit(fmt.Sprintf(`{"op":"put","name":"bed/1/n","value":%d},{"op":"put","name":"bed/come/%d","value":1}`, n+5000, n%10))
			g.commit(fmt.Sprintf(`{"op":"drop","name":"bed/come/%d"}`, n%10))
		}
	}
	churn(time.Now().Add(time.Second))
	g.commit(`{"op":"put","name":"bed/1/n","value":-1}`)
	small.Until(value("bed/1/n") + ` === '-1'`)
	time.Sleep(time.Second) // what happened is asked for
	before, heap := nodes(), small.Heap()
	churn(time.Now().Add(soak.For(2*time.Second, 10*time.Minute)))
	g.commit(`{"op":"put","name":"bed/1/n","value":-2}`)
	small.Until(value("bed/1/n") + ` === '-2'`)
	time.Sleep(time.Second)
	t.Logf("nodes %d, then %d; heap %d KiB, then %d KiB", before, nodes(), heap>>10, small.Heap()>>10)
	assert.LessOrEqual(t, nodes(), before+200)
	assert.LessOrEqual(t, small.Heap(), heap+4<<20)
}

// The page and the client are small, and asked for once.
func TestPageIsSmall(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("page/*")
	require.NoError(t, err)
	page := 0
	for _, f := range files {
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		page += len(raw)
	}
	assert.Less(t, page, 60_000, "the page without the client")
	t.Logf("page %d bytes, client %d", page, len(js.Small))
	s := startShared(t, server.Options{})
	for _, path := range []string{"/boards/rowan-street", "/small-pantry.js", "/small-pantry.d.ts", "/small-pantry/page.js", "/small-pantry/page.css"} {
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

// Draws the pictures of docs/screenshots, into the directory of SCREENSHOTS.
func TestPageShots(t *testing.T) {
	dir := os.Getenv("SCREENSHOTS")
	if dir == "" {
		t.Skip("SCREENSHOTS names no directory")
	}
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", `{"keys":[
		{"name":"tank/litres","kind":"int","default":0,"min":0,"max":5000,"about":"what is in the rain tank"},{"name":"units","kind":"text","default":"metric","choices":["metric","imperial"]},
		{"name":"frost/warning","kind":"bool","default":false},{"name":"hose/queue","kind":"list","default":[],"keep":50}]}`).status)
	tank, gate := g.as(g.admin, "POST", gardenPath+"/tokens", `{"may":"write","label":"tankwatch"}`).json["token"].(string), g.as(g.admin, "POST", gardenPath+"/tokens", `{"may":"write","label":"gatehouse"}`).json["token"].(string)
	for _, c := range []struct{ token, ops string }{
		{gate, `{"op":"put","name":"watered/C4","typed":"2026-05-03T07:30:00Z","kind":"time"},{"op":"put","name":"watered/B2","typed":"2026-05-02T19:10:00Z","kind":"time"},{"op":"put","name":"watered/A1","typed":"2026-05-01T20:05:00Z","kind":"time"}`},
		{gate, `{"op":"put","name":"harvest/heaviest-marrow-g","value":4310}`}, {tank, `{"op":"add","name":"tank/litres","amount":-20},{"op":"take","name":"hose/queue","at":0}`},
	} {
		require.Equal(t, 200, g.as(c.token, "POST", gardenPath+"/commit", `{"ops":[`+c.ops+`]}`).status)
	}
	p := open(t, b, g.link)
	for n := range 14 {
		require.Equal(t, 200, g.as(tank, "POST", gardenPath+"/entries/tank/litres", fmt.Sprintf(`{"op":"add","amount":%d}`, []int{-10, -10, 30, -20, -10}[n%5])).status)
		time.Sleep(150 * time.Millisecond)
	}
	p.Until(`document.querySelectorAll('#happened li').length > 10`)
	time.Sleep(2500 * time.Millisecond)
	shot := func(name string) { p.Shot(filepath.Join(dir, name+".png")) }
	shot("page")
	p.Dark(true, false)
	p.Size(390, 844)
	shot("page-phone")
	p.Dark(false, false)
	p.Size(1280, 800)
	edits(p, "tank/litres")
	p.Fill(".edit input", "3000")
	require.Equal(t, 200, g.as(gate, "POST", gardenPath+"/entries/tank/litres", `{"op":"add","amount":-500}`).status)
	p.Type("\r")
	p.Until(`document.querySelector('.edit .said').textContent.includes('was faster')`)
	browser.Eval[bool](p, row("tank/litres")+`.scrollIntoView({block: 'center'}), true`)
	shot("page-conflict")
	p.Type("\x1b")
	p.Click("#share")
	p.Fill("#sharing input[name=label]", "shed display")
	p.Click("#sharing button.main")
	p.Until(`document.getElementById('link').value`)
	browser.Eval[bool](p, `document.getElementById('link').value = document.getElementById('link').value.replace(/#.*/, '#…'), true`)
	shot("page-share")
	p.Click("#sharing button[value=close]")
	browser.Eval[bool](p, `document.querySelectorAll('#happened li button')[14].click(), true`)
	p.Shows("This is the past.")
	browser.Eval[bool](p, `scrollTo(0, 0), true`)
	shot("page-past")
}
