package server_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
	// A part is a selector of what changed since the last check.
	checks := func(p *browser.Page, what, part string) {
		t.Helper()
		rules := "" // all of them; the colours of the dark page change only these
		if browser.Eval[bool](p, `matchMedia('(prefers-color-scheme: dark)').matches`) {
			rules = "runOnly: ['color-contrast', 'link-in-text-block'],"
		}
		found := browser.Eval[string](p, `axe.run('`+part+`', {`+rules+`resultTypes: ['violations'], preload: false}).then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html + ' ' + n.failureSummary).join('\n')).join('\n'))`)
		assert.Empty(t, found, what)
	}
	// Wide and narrow, light and dark. Colours do not depend on the width.
	everywhere := func(p *browser.Page, f func(at string)) {
		t.Helper()
		for _, view := range []struct {
			width int64
			dark  bool
		}{{1280, false}, {1280, true}, {390, false}} {
			p.Size(view.width, 844)
			p.Dark(view.dark, true)
			f(fmt.Sprint(" ", view.width, " ", view.dark))
		}
	}
	checkAll := func(p *browser.Page, what string) {
		t.Helper()
		everywhere(p, func(at string) { checks(p, what+at, "html") })
	}
	p := opened(g.link)
	p.Until(`document.querySelector('.spark')`)
	everywhere(p, func(at string) {
		check := func(what, part string) {
			t.Helper()
			checks(p, what+at, part)
		}
		check("cards", "html")
		for _, tab := range []string{"happened", "change", "use"} {
			selects(p, "tank/litres", tab)
			check(tab, "dialog, aside")
		}
		press(p, "dialog, aside", "Close")
		for _, dialog := range []string{"#add", "#share", "#about"} {
			p.Click(dialog)
			check(dialog, "dialog")
			p.Type("\x1b")
			p.Until(`!document.querySelector('dialog')`)
		}
		browser.Eval[bool](p, `document.querySelector('.slide').focus(), true`)
		p.Do(browser.Left)
		p.Until(`document.querySelector('.past-bar')`)
		check("past", "html")
		press(p, ".past-bar", "Take these back…")
		check("take back", "dialog")
		p.Type("\x1b")
		press(p, ".past-bar", "Back to now")
		press(p, "header", "Rows")
		check("rows", "main")
		press(p, "header", "Cards")
	})
	p.Type("w")
	p.Until(`document.querySelector('.on-wall')`)
	checkAll(p, "the wall")
	p.Type("\x1b")

	for _, right := range []string{"read", "add"} {
		other := opened(g.invited(right, ""))
		other.Until(`document.querySelector('[data-name]')`)
		checkAll(other, "a link that may "+right)
	}
	g.make("elm-street")
	empty := opened(strings.Replace(strings.Replace(g.link, "rowan-street", "elm-street", 1), g.link[strings.Index(g.link, "#")+1:], g.admin, 1))
	empty.Until(`document.querySelector('.ghost')`)
	checkAll(empty, "an empty board")
	none, _, _ := strings.Cut(g.link, "#")
	closed := opened(none)
	closed.Until(`document.querySelector('.paste')`)
	checkAll(closed, "without a link")

	p.Size(1280, 844)
	selects(p, "tank/litres", "change")
	p.Fill("#tab .edit input", "3000")
	require.Equal(t, 200, g.as(g.admin, "POST", gardenPath+"/entries/tank/litres", `{"op":"add","amount":-500}`).status)
	p.Type("\r")
	p.Until(`document.querySelector('#tab .note')`)
	checkAll(p, "a conflict")
	p.Size(1280, 844)
	press(p, "#tab", "Keep theirs")
	press(p, "#tab", "Give up my change")
	press(p, "aside", "Close")
	g.stop()
	p.Shows("No connection since")
	p.Click(`[data-name="gate/open"] .sw`)
	p.Until(`document.querySelectorAll('.note').length === 1`)
	checkAll(p, "an outage, with a change that waits")
}
