package server_test

import (
	"encoding/json"
	"testing"

	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
)

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
