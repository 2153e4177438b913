package server_test

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/browser"
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
