package browser

import (
	"context"
	"os"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/heapprofiler"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Size makes the page another size.
func (p *Page) Size(width, height int64) {
	p.t.Helper()
	p.Do(chromedp.EmulateViewport(width, height))
}

// Dark has the page drawn for a dark screen, and motion reduced where still is set.
func (p *Page) Dark(dark, still bool) {
	p.t.Helper()
	scheme, motion := "light", "no-preference"
	if dark {
		scheme = "dark"
	}
	if still {
		motion = "reduce"
	}
	call(p, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}, {Name: "prefers-reduced-motion", Value: motion}}})
}

// Media has the page drawn for a medium, such as print, and with a feature, such as forced-colors; "" is
// none.
func (p *Page) Media(medium, feature, value string) {
	p.t.Helper()
	params := emulation.SetEmulatedMediaParams{Media: medium}
	if feature != "" {
		params.Features = []*emulation.MediaFeature{{Name: feature, Value: value}}
	}
	call(p, emulation.SetEmulatedMedia, params)
}

// Shot saves what the page shows as a PNG.
func (p *Page) Shot(path string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(path, png, 0o644); err != nil {
		p.t.Fatal(err)
	}
}

// Keys that have no letter.
var (
	Down   = chromedp.KeyEvent(kb.ArrowDown)
	Left   = chromedp.KeyEvent(kb.ArrowLeft)
	Right  = chromedp.KeyEvent(kb.ArrowRight)
	Delete = chromedp.KeyEvent(kb.Delete)
)

// Heap is how many bytes scripts hold, after what is dead is gone.
func (p *Page) Heap() int {
	p.t.Helper()
	call(p, heapprofiler.CollectGarbage, cdp.Empty{})
	call(p, heapprofiler.CollectGarbage, cdp.Empty{})
	return Eval[int](p, "performance.memory.usedJSHeapSize")
}
