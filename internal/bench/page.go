package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/value"
)

// still is the page of the floor: the same hundred rows, written by hand.
func still() string {
	var b strings.Builder
	b.WriteString(`<!doctype html><title>floor</title><table>`)
	for i := range 100 {
		fmt.Fprintf(&b, `<tr><th>bed/%d<td><button>%d</button><td>whole number<td>now<td>owner<td><td><button>×</button>`, i, i)
	}
	b.WriteString(`</table><script>requestAnimationFrame(() => setTimeout(() => performance.mark('shown')))</script>`)
	return b.String()
}

// shown measures how long a browser takes from opening a board's link to showing its 100
// entries, beside a page that has as many rows in its HTML.
func shown() ([]row, error) {
	if _, err := exec.LookPath("chromium"); err != nil {
		return nil, errors.New("chromium is missing: make test installs it")
	}
	var rows []row
	err := withServer(func(s *sharedBench) error {
		b, err := board.Join(s.link)
		if err != nil {
			return err
		}
		defer b.Close()
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
		var page, base, ratios []float64
		for range 9 {
			got, err := opens(ctx, s.link)
			if err != nil {
				return err
			}
			least, err := opens(ctx, floor.URL)
			if err != nil {
				return err
			}
			page, base, ratios = append(page, got), append(base, least), append(ratios, got/least)
		}
		for _, all := range [][]float64{page, base, ratios} {
			slices.Sort(all)
		}
		rows = append(rows, row{
			what: "a board's page, from opening its link to its 100 entries on the screen", floor: "a page that has as many rows in its HTML",
			got: fmt.Sprintf("%.0f ms", page[4]), base: fmt.Sprintf("%.0f ms (%.1f times)", base[4], ratios[4]), note: "at most 300 ms", bad: page[4] > 300,
		})
		return nil
	})
	return rows, err
}

// opens opens a page in a tab of its own, which knows nothing of others, and gives the
// milliseconds until what it is about is shown.
func opens(ctx context.Context, link string) (float64, error) {
	ctx, stop := chromedp.NewContext(ctx, chromedp.WithNewBrowserContext())
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Navigate(link)); err != nil {
		return 0, err
	}
	return chromedp.Run(ctx, chromedp.Evaluate[float64](`new Promise(done => {
		const look = () => { const m = performance.getEntriesByName('shown')[0]; m ? done(m.startTime) : setTimeout(look, 5) }
		look() })`, chromedp.EvalAwaitPromise))
}
