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
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/internal/test/bundle"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/js"
	"github.com/small-pantry/pantry/pantrytest"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

// A garden is a board with what the demo has on it, and its owner's link.
type garden struct {
	*shared
	link string
}

const gardenPath = "/v1/boards/rowan-street"

const gardenKeys = `{"keys":[
	{"name":"tank/litres","kind":"int","default":0,"min":0,"max":5000,"about":"rain water"},{"name":"units","kind":"text","default":"metric","choices":["metric","imperial"]},
	{"name":"frost/warning","kind":"bool","default":false},{"name":"hose/queue","kind":"list","default":[],"keep":12}]}`

func newGarden(t *testing.T, o server.Options) *garden {
	g := &garden{shared: startShared(t, o)}
	g.make("rowan-street")
	g.link = g.invited("own", "")
	g.commit(`{"op":"put","name":"tank/litres","value":3200},{"op":"put","name":"gate/open","value":true},{"op":"put","name":"gate/notice","value":"Water at 6, box 2"},
		{"op":"put","name":"hose/queue","value":["C4","B2"]},{"op":"put","name":"harvest/total-kg","value":5.0},{"op":"put","name":"rain/drops","value":9007199254740993},
		{"op":"put","name":"map/small","value":"AAcOFQ==","as":"bytes"},{"op":"put","name":"plantings/1","value":{"crop":"beans","spacing":30.0}}`)
	return g
}

// gardenOfADay is a garden on which something happened all day.
func gardenOfADay(t *testing.T) *garden {
	data := t.TempDir()
	now := time.Now().Add(-24 * time.Hour)
	l, err := ledger.Open(filepath.Join(data, "boards"), "rowan-street", ledger.Options{Now: func() time.Time { return now }})
	require.NoError(t, err)
	put := func(by, name string, v value.Value) {
		e, err := ledger.Encode(v)
		require.NoError(t, err)
		_, err = l.Commit(entry.Author{By: by, From: by}, func(tx *ledger.Tx) error {
			tx.Put(name, e)
			return nil
		})
		require.NoError(t, err)
	}
	at := func(ago time.Duration) { now = time.Now().Add(-ago) }
	at(23 * time.Hour)
	put("gatehouse", "tank/warning-below", value.Int(400))
	put("Ida", "tank/lid-closed", value.Bool(true))
	put("gatehouse", "gate/open", value.Bool(false))
	put("plotbook", "harvest/total-kg", value.Float(140))
	litres := int64(3900)
	for i, minutes := 0, 22*60; minutes > 0; i++ {
		at(time.Duration(minutes) * time.Minute)
		litres += []int64{-60, -40, 120, -150, 80, -90, -20}[i%7]
		put([]string{"tankwatch", "tankwatch", "Ida"}[i%3], "tank/litres", value.Int(litres))
		if i%5 == 2 {
			put("plotbook", "harvest/total-kg", value.Float(140+float64(i)*0.5))
		}
		if i%9 == 4 {
			put("gatehouse", "gate/open", value.Bool(i%2 == 0))
		}
		minutes -= []int{25, 60, 10, 95, 30, 15}[i%6]
	}
	at(7 * time.Hour)
	put("gatehouse", "gate/notice", value.Text("Water from 6 pm, please bring your own can"))
	put("gatehouse", "gate/opened-at", value.Time(time.Now().Add(-7*time.Hour)))
	at(3 * time.Minute)
	put("tankwatch", "hose/queue", value.List(value.Text("C4"), value.Text("B2")))
	at(2 * time.Minute)
	put("tankwatch", "tank/litres", value.Int(3130))
	require.NoError(t, l.Close())
	g := &garden{shared: startShared(t, server.Options{Data: data})}
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", gardenKeys).status)
	g.link = g.invited("own", "")
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

// stored returns an entry as the server has it.
func (g *garden) stored(name string) answer {
	g.t.Helper()
	return g.as(g.admin, "GET", gardenPath+"/entries/"+name, "")
}

// unmarshal reads an object as ask does.
func (g *garden) unmarshal(s string) (m map[string]any) {
	g.t.Helper()
	d := json.NewDecoder(strings.NewReader(s))
	d.UseNumber()
	require.NoError(g.t, d.Decode(&m))
	return m
}

// card is the script that finds the card or the row of a name.
func card(name string) string {
	return fmt.Sprintf(`[...document.querySelectorAll('[data-name]')].find(e => e.dataset.name === %q)`, name)
}

// shown is the script for the text of a card's value.
func shown(name string) string {
	return `(c => c?.querySelector('select')?.value ?? c?.querySelector('.v, .t, .sw b, .chips, .members, .value')?.innerText)(` + card(name) + `)`
}

// open opens the page of a link, and waits until it shows what is there.
func open(t *testing.T, b *browser.Browser, link string) *browser.Page {
	p := b.Open(t, link)
	p.Until(`document.querySelector('#connection.live')`)
	p.Until(`document.querySelector('[data-name]')`)
	return p
}

// selects opens a card's panel, at a tab.
func selects(p *browser.Page, name, tab string) {
	browser.Eval[bool](p, card(name)+`.querySelector('button.name').click(), true`)
	p.Until(fmt.Sprintf(`document.querySelector('.title h3')?.innerText.replace(/\n/g, '') === %q`, name))
	p.Click("#tab-" + tab)
	p.Until(`document.querySelector('#tab-` + tab + `').ariaSelected === 'true'`)
}

// press clicks the button with a text, within what a selector means.
func press(p *browser.Page, within, text string) {
	find := fmt.Sprintf(`[...(document.querySelector(%q)?.querySelectorAll('button') ?? [])].find(b => b.innerText.trim() === %q || b.ariaLabel === %[2]q)`, within, text)
	p.Until(find)
	browser.Eval[bool](p, find+`.click(), true`)
}

// change stores another value of a text or a number, as somebody who opens it and types.
func change(p *browser.Page, name, typed string) {
	selects(p, name, "change")
	p.Until(`document.querySelector('#tab .edit input[type=text], #tab .edit textarea')`)
	p.Fill("#tab .edit input[type=text], #tab .edit textarea", typed)
	p.Click("#tab .edit button.main")
}

// Two people see each other's changes as they happen.
func TestPageFollows(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	one, two := open(t, b, g.link), open(t, b, g.invited("write", ""))
	change(one, "tank/litres", "3190")
	two.Until(shown("tank/litres") + ` === '3,190'`)
	two.Until(card("tank/litres") + `.classList.contains('fresh')`)
	two.Until(card("tank/litres") + `.querySelector('.q').innerText.includes('just now, own-link')`)
	two.Until(`document.getElementById('news').textContent === 'tank/litres is 3,190'`)
	selects(two, "tank/litres", "happened")
	two.Until(`document.querySelector('.happened li')?.innerText.startsWith('3,200 → 3,190')`)

	// Adding, of the kind that is guessed and of one that is chosen.
	add := func(name, kind string, fill func()) {
		one.Click("#add")
		one.Fill("dialog input[name=name]", name)
		if kind != "" {
			browser.Eval[bool](one, fmt.Sprintf(`{const s = document.querySelector('dialog select[name=kind]'); s.value = %q; s.dispatchEvent(new Event('change', {bubbles: true})); true}`, kind))
			one.Until(`!document.querySelector('dialog input[name=value]')`)
		}
		fill()
		one.Click("dialog button.main")
	}
	for _, c := range []struct {
		name, kind, is string
		fill           func()
	}{
		{"frost/on", "", `{"kind":"bool","value":false}`, func() { one.Fill("dialog input[name=value]", "false") }},
		{"box", "", `{"kind":"text","value":"007"}`, func() { one.Fill("dialog input[name=value]", "007") }},
		{"weight", "float", `{"kind":"float","value":5.0}`, func() { one.Fill("dialog .value-of input", "5") }},
		{"bed", "int", `{"kind":"int","value":12000}`, func() { one.Fill("dialog .value-of input", "12,000") }},
		{"beds", "list", `{"kind":"list","value":["A1","B2"]}`, func() {
			for i, item := range []string{"A1", "B2"} {
				press(one, "dialog", "Append to beds")
				one.Until(fmt.Sprintf(`document.querySelectorAll('dialog .items li').length === %d`, i+1))
				one.Fill(fmt.Sprintf("dialog .items li:nth-child(%d) input", i+1), item)
			}
		}},
		{"places", "map", `{"kind":"map","value":{"shed":"key 4"}}`, func() {
			press(one, "dialog", "A new member of places")
			one.Until(`document.querySelector('dialog .member')`)
			one.Fill("dialog .member input", "shed")
			one.Fill("dialog .member input:nth-of-type(2)", "key 4")
		}},
	} {
		add(c.name, c.kind, c.fill)
		two.Until(card(c.name))
		for member, want := range g.unmarshal(c.is) {
			assert.Equal(t, want, g.stored(c.name).json[member], c.name)
		}
		one.Until(`!document.querySelector('dialog')`)
	}
	one.Click("#add")
	assert.Empty(t, browser.Eval[string](one, `document.querySelector('dialog select[name=kind]').value`), "the kind of the last entry is not kept")
	one.Fill("dialog input[name=name]", "box")
	one.Shows("It is there already: 007")
	one.Fill("dialog input[name=name]", "tank/litre")
	one.Shows("Did you mean tank/litres?")
	press(one, "dialog", "Cancel")

	// Removing, and putting back, with all its digits.
	selects(one, "rain/drops", "change")
	press(one, "aside", "Remove this entry")
	one.Until(card("rain/drops") + `.innerText.includes('removed')`)
	one.Until(`document.activeElement.closest('[data-name]')`)
	two.Until(`!` + card("rain/drops"))
	press(one, `[data-name="rain/drops"]`, "Put back")
	two.Until(shown("rain/drops") + ` === '9,007,199,254,740,993'`)
	assert.Equal(t, []any{"int", json.Number("9007199254740993")}, []any{g.stored("rain/drops").json["kind"], g.stored("rain/drops").json["value"]})
}

// Each kind has its control. What is refused is said in a sentence, and what was typed stays.
func TestPageKinds(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/keys", gardenKeys).status)
	g.commit(`{"op":"put","name":"gate/opened-at","typed":"2026-05-03T09:00:00.123456789Z","kind":"time"},{"op":"put","name":"hose/mixed","value":["C4",5,5.0,"5",[1],{"a":null}]},{"op":"put","name":"picture","value":"iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==","as":"bytes"}`)
	p := open(t, b, g.link)
	p.Until(shown("units") + ` === 'metric'`)
	p.Until(card("frost/warning") + `.innerText.includes('never written: the default')`)
	p.Until(card("picture") + `.querySelector('img')?.naturalWidth === 1`)

	// On the cards: − and + add, a switch, choices, a new item of a list.
	for range 3 {
		press(p, `[data-name="tank/litres"]`, "Add 50 to tank/litres")
	}
	p.Shows("+150")
	p.Until(shown("tank/litres") + ` === '3,350'`)
	history := g.as(g.admin, "GET", gardenPath+"/history?name=tank/litres&limit=10", "").json["commits"].([]any)
	assert.Len(t, history, 2, "three taps are one addition")
	p.Click(`[data-name="gate/open"] .sw`)
	p.Until(shown("gate/open") + ` === 'no'`)
	p.Until(card("gate/open") + `.querySelector('[role=switch]').ariaChecked === 'false'`)
	browser.Eval[bool](p, `{const s = `+card("units")+`.querySelector('select'); s.value = 'imperial'; s.dispatchEvent(new Event('change', {bubbles: true})); true}`)
	p.Until(card("units") + `.innerText.includes('just now')`)
	press(p, `[data-name="hose/queue"]`, "Append to hose/queue")
	p.Until(`document.activeElement.closest('.append')`)
	g.commit(`{"op":"put","name":"zinnias","value":12}`) // the field stays open when others add a name
	p.Until(card("zinnias"))
	p.Until(`document.activeElement.closest('.append')`)
	p.Type("A1\r")
	p.Until(shown("hose/queue") + `.includes('A1')`)
	p.Until(card("hose/queue") + `.innerText.includes('3 of 12')`)
	p.Click(`[data-name="gate/notice"] .value`)
	p.Until(`document.activeElement.matches('[data-name] textarea')`)
	p.Fill("[data-name] textarea", "Water at 7")
	p.Type("\r")
	p.Until(shown("gate/notice") + ` === 'Water at 7'`)
	for name, is := range map[string]string{"tank/litres": "3350", "gate/open": "false", "units": `"imperial"`, "hose/queue": `["C4","B2","A1"]`, "gate/notice": `"Water at 7"`} {
		assert.Contains(t, g.stored(name).body, `"value":`+is+`,`, name)
	}

	// In the panel. The kind stays, with all digits.
	for _, c := range []struct{ name, typed, kind, value string }{
		{"gate/notice", "true", "text", `"true"`}, {"harvest/total-kg", "6", "float", "6.0"}, {"rain/drops", "-9223372036854775808", "int", "-9223372036854775808"}, {"gate/notice", "", "text", `""`},
	} {
		change(p, c.name, c.typed)
		p.Until(`document.querySelector('#tab-happened')?.ariaSelected === 'true'`)
		a := g.stored(c.name)
		assert.Equal(t, c.kind, a.json["kind"], c.name)
		assert.Contains(t, a.body, `"value":`+c.value+`,`, c.name)
	}
	p.Until(shown("gate/notice") + ` === 'empty'`)
	selects(p, "tank/litres", "change")
	press(p, "aside", "add how much")
	p.Until(`document.querySelector('#tab .edit input').value === ''`)
	p.Fill("#tab .edit input", "-100")
	p.Click("#tab .edit button.main")
	p.Until(shown("tank/litres") + ` === '3,250'`)

	// Storing what is shown again changes nothing, of a list with items of several kinds and of a time.
	for _, name := range []string{"hose/mixed", "gate/opened-at", "plantings/1"} {
		before := g.stored(name).body
		selects(p, name, "change")
		p.Click("#tab .edit button.main")
		p.Until(`document.querySelector('#tab-happened')?.ariaSelected === 'true'`)
		assert.Equal(t, before, g.stored(name).body)
	}
	selects(p, "hose/mixed", "change")
	p.Fill("#tab .items li:nth-child(2) input", "7")
	p.Fill("#tab .items li:nth-child(3) input", "8")
	press(p, "aside", "Remove item 1 of hose/mixed")
	p.Click("#tab .edit button.main")
	p.Until(shown("hose/mixed") + `.startsWith('7')`)
	assert.Contains(t, g.stored("hose/mixed").body, `"value":[7,8.0,"5",[1],{"a":null}],`)
	selects(p, "plantings/1", "change")
	p.Fill("#tab .member:nth-child(1) input:nth-of-type(2)", "peas")
	press(p, "aside", "A new member of plantings/1")
	p.Until(`document.querySelectorAll('#tab .member').length === 3`)
	p.Fill("#tab .member:nth-child(3) input", "bed")
	p.Fill("#tab .member:nth-child(3) input:nth-of-type(2)", "C4")
	p.Click("#tab .edit button.main")
	p.Until(shown("plantings/1") + `.includes('peas')`)
	assert.Contains(t, g.stored("plantings/1").body, `"value":{"bed":"C4","crop":"peas","spacing":30.0},`)
	selects(p, "gate/opened-at", "change")
	browser.Eval[bool](p, `{const d = document.querySelector('#tab input[type=date]'); d.value = '2026-06-01'; d.dispatchEvent(new Event('input', {bubbles: true})); true}`)
	p.Click("#tab .edit button.main")
	p.Until(shown("gate/opened-at") + `.startsWith('Jun 1')`)
	assert.Regexp(t, `"value":"2026-0(5-31|6-0[12])T`, g.stored("gate/opened-at").body)

	// What is refused.
	change(p, "tank/litres", "9000")
	p.Shows("This takes a whole number from 0 to 5,000.")
	assert.Equal(t, "9000", browser.Eval[string](p, `document.querySelector('#tab .edit input').value`))
	p.Fill("#tab .edit input", "many")
	p.Click("#tab .edit button.main")
	p.Shows("This takes a whole number from 0 to 5,000.")
	press(p, "aside", "Give up my change")
	change(p, "harvest/total-kg", "many")
	p.Shows("This takes a number, such as 4.5.")
	press(p, "aside", "Give up my change")

	// Another kind, on purpose.
	selects(p, "rain/drops", "change")
	browser.Eval[bool](p, `{const s = document.querySelector('#tab .kind select'); s.value = 'text'; s.dispatchEvent(new Event('change', {bubbles: true})); true}`)
	p.Until(`document.querySelector('#tab .edit textarea')`)
	p.Fill("#tab .edit textarea", "many")
	p.Click("#tab .edit button.main")
	p.Until(shown("rain/drops") + ` === 'many'`)
	assert.Equal(t, "text", g.stored("rain/drops").json["kind"])
}

// Somebody was faster: the other value is shown, with both ways out.
func TestPageConflict(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	race := func(mine string, theirs func()) {
		selects(p, "tank/litres", "change")
		p.Fill("#tab .edit input", mine)
		theirs()
		p.Type("\r")
		p.Until(`document.querySelector('#tab .note')`)
	}
	race("1", func() { g.commit(`{"op":"put","name":"tank/litres","value":2}`) })
	assert.Regexp(t, `^Changed by admin, just now: 2`, p.Text("#tab .note"))
	press(p, "#tab", "Keep theirs")
	p.Until(shown("tank/litres") + ` === '2'`)
	press(p, "#tab", "Give up my change")
	race("3", func() { g.commit(`{"op":"put","name":"tank/litres","value":4}`) })
	press(p, "#tab", "Store mine")
	p.Until(shown("tank/litres") + ` === '3'`)
	press(p, "#tab", "Give up my change")
	race("5", func() { g.commit(`{"op":"drop","name":"tank/litres"}`) })
	assert.Contains(t, p.Text("#tab .note"), "Somebody removed it.")
	press(p, "#tab", "Store mine")
	p.Until(shown("tank/litres") + ` === '5'`)
	assert.EqualValues(t, json.Number("5"), g.stored("tank/litres").json["value"])

	// A switch that somebody else turned: the card says so.
	hold(p)
	p.Click(`[data-name="gate/open"] .sw`)
	p.Until(`window.asked`)
	g.commit(`{"op":"put","name":"gate/open","value":true},{"op":"put","name":"gate/open","value":false},{"op":"put","name":"gate/open","value":true}`)
	browser.Eval[bool](p, `goOn(), true`)
	p.Until(card("gate/open") + `.querySelector('.note') || ` + shown("gate/open") + ` === 'no'`)
}

// hold keeps the page's next changes back until goOn is called.
func hold(p *browser.Page) {
	browser.Eval[bool](p, `{
		const real = fetch
		window.asked = false
		window.held = new Promise(f => { window.goOn = f })
		window.fetch = async (...a) => {
			if (a[1]?.method && a[1].method !== 'GET') { window.asked = true; await held }
			return real(...a)
		}
		true
	}`)
}

// An entry is removed only as the page shows it: a change that comes in between is not lost.
func TestPageRemovesWhatItShows(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	hold(p)
	selects(p, "tank/litres", "change")
	press(p, "aside", "Remove this entry")
	p.Until(`window.asked`)
	g.commit(`{"op":"put","name":"tank/litres","value":7}`)
	browser.Eval[bool](p, `goOn(), true`)
	p.Until(shown("tank/litres") + ` === '7'`)
	p.Until(card("tank/litres") + `.innerText.includes('Changed by admin')`)
	assert.Equal(t, json.Number("7"), g.stored("tank/litres").json["value"])
	press(p, `[data-name="tank/litres"]`, "Remove it")
	p.Until(card("tank/litres") + `.innerText.includes('removed')`)
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
	p.Until(shown("tank/litres") + ` === '1'`)
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
	p.Until(shown("tank/litres") + ` === '2'`)
	p.Until(card("tank/litres") + `.classList.contains('fresh')`)
}

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

// The rail shows the past on every card. What was different comes back, each part or all.
func TestPagePast(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := gardenOfADay(t)
	p := open(t, b, g.link)
	p.Until(`document.querySelector('.ticks').getAttribute('d').split('M').length > 20`)
	p.Until(card("tank/litres") + `.querySelector('.spark')`)
	browser.Eval[bool](p, `document.querySelector('.slide').focus(), true`)
	p.Do(browser.Left)
	p.Shows("1 thing was different.")
	p.Until(shown("tank/litres") + ` === '3,120'`)
	p.Do(browser.Left)
	p.Shows("2 things were different.")
	p.Until(shown("hose/queue") + ` === 'empty'`)
	assert.Equal(t, "slider", browser.Eval[string](p, `document.activeElement.role`))
	p.Requests()
	browser.Eval[bool](p, `{const s = document.querySelector('.slide'), r = s.getBoundingClientRect(); for (const [type, at] of [['pointerdown', .7], ['pointermove', .4], ['pointermove', .3], ['pointerup', .3]]) s.dispatchEvent(new PointerEvent(type, {bubbles: true, clientX: r.x + r.width * at, clientY: r.y + 9, pointerId: 1, button: 0})); true}`)
	p.Until(shown("gate/notice") + ` === 'nothing'`)
	for _, r := range p.Requests() {
		assert.NotContains(t, r, "/entries?at=", "dragging computes from what is known")
	}
	press(p, ".past-bar", "Take these back…")
	p.Until(`document.querySelectorAll('.differences li').length > 3`)
	browser.Eval[bool](p, `document.querySelectorAll('.differences li').forEach(l => l.innerText.includes('tank/litres') || l.querySelector('input').click()), true`)
	press(p, "dialog", "Make 1 so again")
	p.Until(`!document.querySelector('.past-bar')`)
	was := g.stored("tank/litres").json["value"]
	assert.NotEqual(t, json.Number("3130"), was)
	assert.Equal(t, 200, g.stored("gate/notice").status, "what was left out stays")
	p.Until(fmt.Sprintf(`%s.replace(',', '') === '%s'`, shown("tank/litres"), was))

	// What comes in meanwhile does not change what is shown of the past.
	p.Until(`document.activeElement.role === 'slider'`)
	p.Do(browser.Left)
	p.Until(`document.querySelector('.past-bar')`)
	p.Until(shown("tank/litres") + ` === '3,130'`)
	g.commit(`{"op":"put","name":"tank/litres","value":11}`)
	time.Sleep(300 * time.Millisecond) // it would have come by then
	assert.Equal(t, "3,130", browser.Eval[string](p, shown("tank/litres")))
	press(p, ".past-bar", "Back to now")
	p.Until(shown("tank/litres") + ` === '11'`)
}

// Everything that happened to one entry, back to what the server keeps. One change is undone, and no
// later one by others with it.
func TestPageUndo(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := gardenOfADay(t)
	for i := range 60 {
		g.commit(fmt.Sprintf(`{"op":"put","name":"gate/notice","value":"note %d"}`, i))
	}
	p := open(t, b, g.link)
	selects(p, "gate/notice", "happened")
	p.Until(`document.querySelectorAll('.happened li').length > 60`)
	p.Shows("The server knows nothing older.")
	press(p, ".happened", "Undo this: note 58 again")
	p.Until(shown("gate/notice") + ` === 'note 58'`)
	p.Until(`document.querySelector('.happened li').innerText.includes('note 59 → note 58')`)
	press(p, ".happened", "Undo this: note 30 again")
	p.Shows("This overwrites note 58")
	g.commit(`{"op":"put","name":"gate/open","value":true}`)
	press(p, ".happened", "Undo it all the same")
	p.Until(shown("gate/notice") + ` === 'note 30'`)
	assert.Equal(t, true, g.stored("gate/open").json["value"])
	selects(p, "tank/litres", "happened")
	p.Until(`document.querySelector('.chart canvas')`)
	p.Until(`/in \d+ steps/.test(document.querySelector('.happened').innerText)`)
	lines := browser.Eval[int](p, `document.querySelectorAll('.happened li').length`)
	press(p, ".happened", "Show them")
	p.Until(fmt.Sprintf(`document.querySelectorAll('.happened li').length > %d + 2`, lines))
	press(p, "aside", "hour")
	p.Until(`document.querySelector('.chart [role=img]').ariaLabel === 'tank/litres: least 3,120, most 3,210, now 3,130'`)
	press(p, "aside", "month")
	p.Until(`document.querySelector('.chart [role=img]').ariaLabel.includes('most 3,9')`)
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

// Typed text stays over a click elsewhere and a reload, until it is stored or given up.
func TestPageKeepsWhatIsTyped(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	selects(p, "gate/notice", "change")
	p.Fill("#tab textarea", "Water at 7")
	selects(p, "tank/litres", "happened")
	p.Until(card("gate/notice") + `.innerText.includes('not stored yet')`)
	p.Reload()
	p.Until(card("gate/notice") + `?.innerText.includes('not stored yet')`)
	press(p, `[data-name="gate/notice"]`, "Go on")
	p.Until(`document.querySelector('[data-name="gate/notice"] textarea')?.value === 'Water at 7'`)
	press(p, `[data-name="gate/notice"]`, "Store")
	p.Until(shown("gate/notice") + ` === 'Water at 7'`)
	p.Until(`!` + card("gate/notice") + `.innerText.includes('not stored yet')`)
	p.Click("#add")
	p.Fill("dialog input[name=name]", "hose/length")
	p.Fill("dialog input[name=value]", "30")
	p.Reload()
	p.Until(`document.querySelector('#add')`)
	p.Click("#add")
	assert.Equal(t, "hose/length 30", browser.Eval[string](p, `[...document.querySelectorAll('dialog input')].map(i => i.value).join(' ')`))
}

// A server that goes away and comes back: the page says how old it is, and keeps changes and sends them,
// over a reload too.
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
	p.Until(`navigator.serviceWorker?.controller`) // it has the page's own files
	s.Cut(true)
	p.Shows("No connection since", "what you change is kept and sent later.")
	change(p, "tank/litres", "6")
	p.Until(card("tank/litres") + `.querySelector('.note')?.innerText.includes('6, waits')`)
	p.Shows("1 change waits.")
	assert.Equal(t, "5", browser.Eval[string](p, shown("tank/litres")), "what is not stored is not shown as stored")
	s.Cut(false)
	p.Until(shown("tank/litres") + ` === '6'`)
	p.Until(`document.querySelector('#connection.live')`)
	p.Until(`!` + card("tank/litres") + `.querySelector('.note')`)

	// A change is taken back; and a reload without a network shows what was known.
	s.Cut(true)
	p.Shows("No connection since")
	change(p, "tank/litres", "7")
	p.Until(card("tank/litres") + `.querySelector('.note')`)
	press(p, `[data-name="tank/litres"]`, "Take back the change of tank/litres")
	p.Until(`!` + card("tank/litres") + `.querySelector('.note')`)
	press(p, `[data-name="tank/litres"]`, "Add 1 to tank/litres")
	p.Until(card("tank/litres") + `.querySelector('.note')?.innerText.includes('+1, waits')`)
	p.Reload()
	p.Shows("No connection since")
	p.Until(shown("tank/litres") + ` === '6'`)
	p.Until(card("tank/litres") + `.querySelector('.note')?.innerText.includes('+1, waits')`)
	s.Cut(false)
	p.Until(shown("tank/litres") + ` === '7'`)
	p.Until(`!` + card("tank/litres") + `.querySelector('.note')`)
	put("100")
	p.Until(shown("tank/litres") + ` === '100'`)

	a := ask(t, "DELETE", strings.Replace(s.Link("rowan-street"), "/boards/", "/v1/boards/", 1), "")
	require.Equal(t, 204, a.status)
	p.Shows("This board was removed.")
	front := b.Open(t, strings.TrimSuffix(s.Link("x"), "boards/x"))
	front.Shows("/boards/rowan-street")
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

// Search, rows, and the wall.
func TestPageViews(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	names := `[...document.querySelectorAll('[data-name]')].map(e => e.dataset.name).join()`
	for search, found := range map[string]string{"tank": "tank/litres", "box 2": "gate/notice", "3200": "tank/litres", "3,200": "tank/litres"} {
		p.Fill("#search", search)
		p.Until(fmt.Sprintf(`%s === %q`, names, found))
	}
	p.Fill("#search", "tnk")
	p.Shows("Nothing matches “tnk”.")
	p.Fill("#search", "")
	press(p, "header", "Rows")
	p.Until(`document.querySelector('.rows')`)
	p.Until(shown("tank/litres") + ` === '3,200'`)
	p.Reload()
	p.Until(`document.querySelector('.rows')`)
	selects(p, "gate/notice", "happened")
	p.Until(`document.querySelector('.pin input')`)
	p.Click(".pin input")
	p.Type("\x1b")
	browser.Eval[bool](p, `document.activeElement.blur(), true`)
	p.Type("w")
	p.Until(`document.querySelector('.wall-shelf')?.innerText.includes('Water at 6, box 2')`)
	assert.Equal(t, 1, browser.Eval[int](p, `document.querySelectorAll('.wall-shelf .c').length`))
	p.Type("\x1b")
	p.Until(`document.querySelector('.rows')`)
}

// By keyboard alone.
func TestPageByKeyboard(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := newGarden(t, server.Options{})
	p := open(t, b, g.link)
	p.Until(`document.querySelector('#share')`)
	p.Type("/")
	p.Until(`document.activeElement.id === 'search'`)
	p.Fill("#search", "tank")
	p.Until(`document.querySelectorAll('[data-name]').length === 1`)
	p.Do(browser.Down)
	p.Until(`document.activeElement.innerText === 'litres'`)
	assert.NotEqual(t, "none", browser.Eval[string](p, `getComputedStyle(document.activeElement).outlineStyle`), "focus is seen")
	p.Type("\r")
	p.Until(`document.querySelector('aside')`)
	p.Type("\x1b")
	p.Until(`!document.querySelector('aside')`)
	p.Type("\t\r") // the value
	p.Until(`document.activeElement.matches('#tab input')`)
	p.Type("42\r")
	p.Until(shown("tank/litres") + ` === '42'`)
	browser.Eval[bool](p, `document.querySelector('[role=tab]').focus(), true`)
	p.Do(browser.Right)
	p.Until(`document.activeElement.id === 'tab-change'`)
	p.Type("\x1b")
	p.Fill("#search", "")
	p.Until(`document.querySelectorAll('[data-name]').length > 1`)
	order := browser.Eval[string](p, `[...document.querySelectorAll('button, input, select, [tabindex="0"]')].filter(e => e.checkVisibility() && e.tabIndex >= 0).map(e => e.id || e.ariaLabel || e.textContent).slice(0, 7).join()`)
	assert.Equal(t, "search,add,Cards,Rows,share,about,gate/notice", order, "the order of Tab is that of reading")
}

// Nothing scrolls sideways, and no value is cut to nothing, at any width.
func TestPageWidths(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := gardenOfADay(t)
	g.commit(`{"op":"put","name":"rain/drops","value":9007199254740993},{"op":"put","name":"plantings/1","value":{"crop":"beans","spacing":30.0}},{"op":"put","name":"a-name-without-any-place-to-break-it-that-goes-on-and-on-and-on","value":"a-value-without-any-place-to-break-it-that-goes-on-and-on-and-on-and-on"}`)
	p := open(t, b, g.link)
	p.Until(`document.querySelector('.spark')`)
	for _, dark := range []bool{false, true} {
		p.Dark(dark, true)
		for _, width := range []int64{320, 390, 768, 1024, 1280, 1920} {
			p.Size(width, 800)
			for _, mode := range []string{"Cards", "Rows"} {
				browser.Eval[bool](p, fmt.Sprintf(`[...document.querySelectorAll('.seg button')].find(b => b.innerText === %q).click(), true`, mode))
				p.Until(fmt.Sprintf(`!!document.querySelector('.rows') === %v`, mode == "Rows"))
				what := fmt.Sprint(mode, " at ", width)
				assert.LessOrEqual(t, browser.Eval[int64](p, `document.documentElement.scrollWidth`), width, what)
				least := 50.0
				if mode == "Rows" && width >= 1024 {
					least = 14 * 16
				}
				narrow := browser.Eval[string](p, fmt.Sprintf(`[...document.querySelectorAll('[data-name]')].map(c => [c.dataset.name, (c.querySelector('.value[role=cell], .v, .t, .sw, .chips, .members, select'))?.getBoundingClientRect().width]).filter(x => !(x[1] >= %v)).join()`, least))
				assert.Empty(t, narrow, what)
				out := browser.Eval[string](p, `[...document.querySelectorAll('.c')].flatMap(c => [...c.querySelectorAll('*')].filter(e => e.checkVisibility() && e.getBoundingClientRect().right > c.getBoundingClientRect().right + 0.5).map(e => c.dataset.name + ' ' + e.tagName + e.className)).join()`)
				assert.Empty(t, out, "beyond its card, %s", what)
			}
		}
	}
	p.Size(320, 800)
	press(p, "header", "Cards")
	assert.Equal(t, 1, browser.Eval[int](p, `new Set([...document.querySelectorAll('.c')].map(c => c.getBoundingClientRect().x)).size`), "one column at 320")
	small := browser.Eval[string](p, `[...document.querySelectorAll('button, input:not([type=radio], [type=checkbox]), select')].filter(e => e.checkVisibility() && !e.closest('.rail') && e.getBoundingClientRect().height < 43.5).map(e => e.outerHTML).join('\n')`)
	assert.Empty(t, small, "every target is 44 px high")
}

// Printed, the page is its values without controls, in black on white.
func TestPagePrints(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := gardenOfADay(t)
	p := open(t, b, g.link)
	p.Until(`document.querySelector('.spark')`)
	p.Dark(true, true)
	p.Media("print", "", "")
	for _, control := range []string{".rail", ".search", ".seg", "header .b", ".step"} {
		assert.False(t, browser.Eval[bool](p, fmt.Sprintf(`[...document.querySelectorAll(%q)].some(e => e.checkVisibility())`, control)), control)
	}
	assert.True(t, browser.Eval[bool](p, card("tank/litres")+`.querySelector('.v').checkVisibility()`))
	colours := browser.Eval[string](p, `(c => [getComputedStyle(c).color, getComputedStyle(c).backgroundColor, getComputedStyle(document.body).backgroundColor].join(' '))(`+card("tank/litres")+`)`)
	assert.Equal(t, "rgb(0, 0, 0) rgb(255, 255, 255) rgb(255, 255, 255)", colours)
	last := browser.Eval[string](p, `[...document.querySelectorAll('.c')].at(-1).innerText`)
	assert.NotEmpty(t, last, "every card is drawn, not only those on the screen")
}

// With forced colours, what is on, selected or a knob is still seen: by lines and the system's colours.
func TestPageForcedColours(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	g := gardenOfADay(t)
	p := open(t, b, g.link)
	p.Until(`document.querySelector('.spark')`)
	p.Media("", "forced-colors", "active")
	selects(p, "tank/litres", "happened")
	p.Until(`matchMedia('(forced-colors: active)').matches`)
	seen := func(what, script string) {
		t.Helper()
		assert.True(t, browser.Eval[bool](p, script), what)
	}
	outlined := `(e => getComputedStyle(e).outlineStyle === 'solid' && parseFloat(getComputedStyle(e).outlineWidth) >= 2)`
	seen("the selected card", outlined+`(document.querySelector('.c.on'))`)
	seen("the chosen view", outlined+`(document.querySelector('.seg .on'))`)
	seen("the chosen tab", outlined+`(document.querySelector('.tabs [aria-selected=true]'))`)
	seen("a switch", `(e => parseFloat(getComputedStyle(e).borderWidth) >= 1 && (parseFloat(getComputedStyle(e, '::after').borderWidth) >= 1 || getComputedStyle(e, '::after').backgroundColor !== getComputedStyle(e).backgroundColor))(document.querySelector('.sw i'))`)
	seen("a line", `getComputedStyle(document.querySelector('.spark path')).stroke !== getComputedStyle(document.querySelector('.c')).backgroundColor`)
}

// Checked with axe-core, light and dark, wide and as wide as a phone, in every state.
func TestPageIsAccessible(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	axe, err := os.ReadFile(filepath.Join("..", "js", "node_modules", "axe-core", "axe.min.js"))
	if err != nil && os.Getenv("CI") != "true" {
		t.Skip("axe-core is missing: make test installs it")
	}
	require.NoError(t, err)
	g := gardenOfADay(t)
	opened := func(link string) *browser.Page {
		p := b.Open(t, link)
		p.Until(`document.querySelector('#connection .words')?.innerText`)
		browser.Eval[bool](p, string(axe)+"; true")
		browser.Eval[bool](p, `document.styleSheets[0].insertRule('.c { content-visibility: visible !important }', document.styleSheets[0].cssRules.length) >= 0`) // the cards below are checked too
		return p
	}
	checks := func(p *browser.Page, what string) {
		t.Helper()
		found := browser.Eval[string](p, `axe.run().then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html + ' ' + n.failureSummary).join('\n')).join('\n'))`)
		assert.Empty(t, found, what)
	}
	everywhere := func(p *browser.Page, what string) { // wide and narrow, light and dark
		t.Helper()
		for _, size := range []int64{1280, 390} {
			p.Size(size, 844)
			for _, dark := range []bool{false, true} {
				p.Dark(dark, true)
				checks(p, fmt.Sprint(what, " ", size, " ", dark))
			}
		}
	}
	p := opened(g.link)
	p.Until(`document.querySelector('.spark')`)
	check := func(what string) {
		t.Helper()
		checks(p, what)
	}
	for _, size := range []int64{1280, 390} {
		p.Size(size, 844)
		for _, dark := range []bool{false, true} {
			p.Dark(dark, true)
			at := fmt.Sprint(" ", size, " ", dark)
			check("cards" + at)
			for _, tab := range []string{"happened", "change", "use"} {
				selects(p, "tank/litres", tab)
				check(tab + at)
			}
			press(p, "dialog, aside", "Close")
			for _, dialog := range []string{"#add", "#share", "#about"} {
				p.Click(dialog)
				check(dialog + at)
				p.Type("\x1b")
				p.Until(`!document.querySelector('dialog')`)
			}
			browser.Eval[bool](p, `document.querySelector('.slide').focus(), true`)
			p.Do(browser.Left)
			p.Until(`document.querySelector('.past-bar')`)
			check("past" + at)
			press(p, ".past-bar", "Take these back…")
			check("take back" + at)
			p.Type("\x1b")
			press(p, ".past-bar", "Back to now")
			press(p, "header", "Rows")
			check("rows" + at)
			press(p, "header", "Cards")
		}
	}
	p.Type("w")
	p.Until(`document.querySelector('.on-wall')`)
	everywhere(p, "the wall")
	p.Type("\x1b")

	for _, right := range []string{"read", "add"} {
		other := opened(g.invited(right, ""))
		other.Until(`document.querySelector('[data-name]')`)
		everywhere(other, "a link that may "+right)
	}
	g.make("elm-street")
	empty := opened(strings.Replace(strings.Replace(g.link, "rowan-street", "elm-street", 1), g.link[strings.Index(g.link, "#")+1:], g.admin, 1))
	empty.Until(`document.querySelector('.ghost')`)
	everywhere(empty, "an empty board")
	none, _, _ := strings.Cut(g.link, "#")
	closed := opened(none)
	closed.Until(`document.querySelector('.paste')`)
	everywhere(closed, "without a link")

	p.Size(1280, 844)
	selects(p, "tank/litres", "change")
	p.Fill("#tab .edit input", "3000")
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/entries/tank/litres", `{"op":"add","amount":-500}`).status)
	p.Type("\r")
	p.Until(`document.querySelector('#tab .note')`)
	everywhere(p, "a conflict")
	p.Size(1280, 844)
	press(p, "#tab", "Keep theirs")
	press(p, "#tab", "Give up my change")
	press(p, "aside", "Close")
	g.stop()
	p.Shows("No connection since")
	p.Click(`[data-name="gate/open"] .sw`)
	p.Until(`document.querySelectorAll('.note').length === 1`)
	everywhere(p, "an outage, with a change that waits")
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
	churn(time.Now().Add(time.Second))
	g.commit(`{"op":"put","name":"bed/1/n","value":-1}`)
	small.Until(shown("bed/1/n") + ` === '−1'`)
	before, heap := nodes(), small.Heap()
	churn(time.Now().Add(soak.For(2*time.Second, 10*time.Minute)))
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
