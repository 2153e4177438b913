package server_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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

// A server that goes away and comes back: the page says how old it is, and keeps changes and sends them,
// over a reload too.
func TestPageOutage(t *testing.T) {
	t.Parallel()
	b := browser.Start(t)
	s := boardtest.NewServer(t)
	put := func(value string) {
		a := ask(t, "PUT", strings.Replace(s.Link("rowan-street"), "/boards/", "/v1/boards/", 1)+"/entries/tank/litres", value)
		require.Less(t, a.status, 300, a.body)
	}
	put("5")
	p := open(t, b, s.Link("rowan-street"))
	p.Until(`navigator.serviceWorker?.controller`) // it has the page's own files
	s.Cut()
	p.Shows("No connection since", "what you change is kept and sent later.")
	change(p, "tank/litres", "6")
	p.Until(card("tank/litres") + `.querySelector('.note')?.innerText.includes('6, waits')`)
	p.Shows("1 change waits.")
	assert.Equal(t, "5", browser.Eval[string](p, shown("tank/litres")), "what is not stored is not shown as stored")
	s.Connect()
	p.Until(shown("tank/litres") + ` === '6'`)
	p.Until(`document.querySelector('#connection.live')`)
	p.Until(`!` + card("tank/litres") + `.querySelector('.note')`)

	// A change is taken back; and a reload without a network shows what was known.
	s.Cut()
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
	s.Connect()
	p.Until(shown("tank/litres") + ` === '7'`)
	p.Until(`!` + card("tank/litres") + `.querySelector('.note')`)
	put("100")
	p.Until(shown("tank/litres") + ` === '100'`)
	s.Cut()
	p.Reload() // at once
	p.Shows("No connection since")
	p.Until(shown("tank/litres") + ` === '100'`)
	s.Connect()
	p.Until(`document.querySelector('#connection.live')`)

	a := ask(t, "DELETE", strings.Replace(s.Link("rowan-street"), "/boards/", "/v1/boards/", 1), "")
	require.Equal(t, 204, a.status)
	p.Shows("This board was removed.")
	front := b.Open(t, strings.TrimSuffix(s.Link("x"), "boards/x"))
	front.Shows("/boards/rowan-street")
}
