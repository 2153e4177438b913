package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/performance"
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

// page compares a board's page in a browser with pages that do as much by hand.
func page(s *suite) error {
	const (
		shown = "a board's page, until its 100 entries are on the screen"
		many  = "CPU of a board's page until 10,000 entries are shown"
	)
	if !s.wants(shown) && !s.wants(many) {
		return nil
	}
	if _, err := exec.LookPath(browser.Program()); err != nil {
		return fmt.Errorf("%s is missing: make test installs it", browser.Program())
	}
	ctx, stop, err := browser.Launch()
	if err != nil {
		return err
	}
	defer stop()
	few := *s
	few.rounds, few.results = min(s.rounds, 5), nil // each takes seconds
	err = errors.Join(
		withEntries(100, func(site *site, b *board.Board) error {
			floor := serves(still())
			defer floor.Close()
			if _, err := untilShown(ctx, floor.URL); err != nil { // the browser's own start
				return err
			}
			opens := func(link string) func() (float64, error) {
				return func() (float64, error) { return untilShown(ctx, link) }
			}
			return s.compare(row{what: shown, floor: "a page that has as many cards in its HTML", limit: 3, unit: nanoseconds}, opens(site.link), opens(floor.URL))
		}),
		withEntries(10_000, func(site *site, _ *board.Board) error {
			reads := serves(reader(site))
			defer reads.Close()
			cpu := func(link string) func() (float64, error) {
				return func() (float64, error) { return busyUntilShown(ctx, link) }
			}
			return few.compare(row{what: many, floor: "a page that reads the same list and shows its length", limit: 14, unit: nanoseconds}, cpu(site.link), cpu(reads.URL))
		}),
	)
	s.results = append(s.results, few.results...)
	return err
}

// withEntries calls f with a board of n numbers.
func withEntries(n int, f func(site *site, b *board.Board) error) error {
	return serving(func(site *site) error {
		return site.join(func(b *board.Board) error {
			for at := 0; at < n; at += board.MaxOps {
				var ops []board.Op
				for i := at; i < min(n, at+board.MaxOps); i++ {
					ops = append(ops, board.Op{Name: fmt.Sprintf("bed/%d", i), Op: value.Op{Verb: value.Put, Operand: value.Int(int64(i))}})
				}
				if _, err := b.Commit(context.Background(), ops...); err != nil {
					return err
				}
			}
			return f(site, b)
		})
	})
}

func serves(html string) *httptest.Server {
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte(html))
	}))
}

// reader is a page by hand that reads a board's list and shows its length.
func reader(site *site) string {
	return fmt.Sprintf(`<!doctype html><title>floor</title><p id="n"></p><script>
fetch('http://%s/v1/boards/%s/entries', { headers: { Authorization: 'Bearer %s' } }).then(resp => resp.json()).then(page => {
  n.textContent = page.entries.length
  requestAnimationFrame(() => setTimeout(() => performance.mark('shown')))
})
</script>`, site.addr, boardOf(site), site.token)
}

func boardOf(site *site) string {
	address, _, _ := strings.Cut(site.link, "#")
	return address[strings.LastIndex(address, "/")+1:]
}

// tab opens a page in a tab of its own, waits until its content is shown, and calls f.
func tab(ctx context.Context, link string, f func(ctx context.Context) (float64, error)) (float64, error) {
	ctx, stop := chromedp.NewContext(ctx, chromedp.WithNewBrowserContext())
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	err := chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, performance.Enable, performance.EnableParams{})
		return err
	}), chromedp.Navigate(link))
	if err != nil {
		return 0, err
	}
	return f(ctx)
}

// tasks returns the seconds that a page's tasks have taken.
func tasks(ctx context.Context) (seconds float64, err error) {
	err = chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		got, err := chromedp.Call(ctx, performance.GetMetrics, cdp.Empty{})
		if err != nil {
			return err
		}
		for _, m := range got.Metrics {
			if m.Name == "TaskDuration" {
				seconds = m.Value
			}
		}
		return nil
	}))
	return seconds, err
}

// busyUntilShown returns the nanoseconds of CPU until a page's content is shown.
func busyUntilShown(ctx context.Context, link string) (float64, error) {
	return tab(ctx, link, func(ctx context.Context) (float64, error) {
		if _, err := markOf(ctx); err != nil {
			return 0, err
		}
		seconds, err := tasks(ctx)
		return seconds * 1e9, err
	})
}

// untilShown opens a page and returns the nanoseconds until it marks its content as shown.
func untilShown(ctx context.Context, link string) (float64, error) { return tab(ctx, link, markOf) }

func markOf(ctx context.Context) (float64, error) {
	ms, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`new Promise(done => {
		const look = () => { const m = performance.getEntriesByName('shown')[0]; m ? done(m.startTime) : setTimeout(look, 5) }
		look() })`, chromedp.EvalAwaitPromise))
	return ms * 1e6, err
}
