package main

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/value"
)

// still is the page of the floor: the same hundred cards, written by hand.
func still() string {
	var b strings.Builder
	b.WriteString(`<!doctype html><title>floor</title><style>.s{display:grid;grid-template-columns:repeat(auto-fill,minmax(236px,1fr));gap:14px}.c{border:1px solid #ccc;border-radius:14px;padding:14px;display:flex;flex-direction:column;min-height:132px}.v{font-size:34px}.q{display:flex;justify-content:space-between}</style><div class="s">`)
	for i := range 100 {
		fmt.Fprintf(&b, `<article class="c"><div class="n"><button>%d</button><span></span></div><button class="v">%d</button><div class="q"><span>just now, owner</span><span><button>−</button><button>+</button></span></div></article>`, i, i)
	}
	b.WriteString(`</div><script>requestAnimationFrame(() => setTimeout(() => performance.mark('shown')))</script>`)
	return b.String()
}

// page compares opening a board's link, until its 100 entries are on the screen, with a page that has
// as many cards in its HTML.
func page(s *suite) error {
	const what = "a board's page, until its 100 entries are on the screen"
	if !s.wants(what) {
		return nil
	}
	if _, err := exec.LookPath(browser.Program()); err != nil {
		return fmt.Errorf("%s is missing: make test installs it", browser.Program())
	}
	return serving(func(site *site) error {
		return site.join(func(b *board.Board) error {
			var ops []board.Op
			for i := range 100 {
				ops = append(ops, board.Op{Name: fmt.Sprintf("bed/%d", i), Op: value.Op{Verb: value.Put, Operand: value.Int(int64(i))}})
			}
			if _, err := b.Commit(context.Background(), ops...); err != nil {
				return err
			}
			floor := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", "text/html; charset=utf-8")
				_, _ = w.Write([]byte(still()))
			}))
			defer floor.Close()
			ctx, stop, err := browser.Launch()
			if err != nil {
				return err
			}
			defer stop()
			opens := func(link string) func() (float64, error) {
				return func() (float64, error) { return untilShown(ctx, link) }
			}
			if _, err := untilShown(ctx, floor.URL); err != nil { // the browser's own start
				return err
			}
			return s.compare(row{what: what, floor: "a page that has as many cards in its HTML", limit: 3, unit: nanoseconds}, opens(site.link), opens(floor.URL))
		})
	})
}

// untilShown opens a page in a tab of its own and returns the nanoseconds until it marks its content as
// shown.
func untilShown(ctx context.Context, link string) (float64, error) {
	ctx, stop := chromedp.NewContext(ctx, chromedp.WithNewBrowserContext())
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Navigate(link)); err != nil {
		return 0, err
	}
	ms, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`new Promise(done => {
		const look = () => { const m = performance.getEntriesByName('shown')[0]; m ? done(m.startTime) : setTimeout(look, 5) }
		look() })`, chromedp.EvalAwaitPromise))
	return ms * 1e6, err
}
