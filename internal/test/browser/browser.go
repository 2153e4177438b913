// Package browser drives Chromium in tests: real pages, real keys and clicks.
package browser

import (
	"context"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/storage"
	"github.com/chromedp/chromedp"
)

// patience only ends a hang. A page on a slow machine can take long.
const patience = 50 * time.Second

// Browser is a Chromium that runs, without a window.
type Browser struct{}

// Program returns the name of the browser: Chromium's headless shell where it is installed, since
// it starts a page in a third of the processor time, else Chromium.
func Program() string {
	if _, err := exec.LookPath("chromium-headless-shell"); err == nil {
		return "chromium-headless-shell"
	}
	return "chromium"
}

// Launch starts Chromium with a directory of its own; stop ends it.
func Launch() (ctx context.Context, stop func(), err error) {
	all, stopAll := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(Program()), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("process-per-site", true))...)
	ctx, stopOne := chromedp.NewContext(all)
	stop = func() {
		stopOne()
		stopAll()
	}
	if err = chromedp.Do(ctx); err != nil {
		stop()
	}
	return ctx, stop, err
}

// shared is the one Chromium of a test binary.
var shared struct {
	start sync.Once
	mu    sync.Mutex // guards what follows
	ctx   context.Context
	stop  func()
	err   error
	free  []context.Context // profiles that no page uses
}

// A profile has cookies and storage of its own. Making one costs over a second of processor time,
// so that they are used again.
func profile() (context.Context, error) {
	shared.mu.Lock()
	defer shared.mu.Unlock()
	if n := len(shared.free); n > 0 {
		p := shared.free[n-1]
		shared.free = shared.free[:n-1]
		return p, nil
	}
	ctx, _ := chromedp.NewContext(shared.ctx, chromedp.WithNewBrowserContext()) // it ends with the browser
	return ctx, chromedp.Do(ctx)
}

// giveBack empties the storage of a profile for the origin of address, so that another test can
// use it. Other origins were not opened.
func giveBack(t testing.TB, ctx context.Context, address string) {
	err := chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		u, err := url.Parse(address)
		if err != nil {
			return err
		}
		_, err = chromedp.Call(ctx, storage.ClearDataForOrigin, storage.ClearDataForOriginParams{Origin: u.Scheme + "://" + u.Host, StorageTypes: "all"})
		return err
	}))
	if err != nil {
		t.Errorf("empty a browser's storage: %v", err)
		return
	}
	shared.mu.Lock()
	defer shared.mu.Unlock()
	shared.free = append(shared.free, ctx)
}

// Start returns the Chromium that all tests of this binary share, and starts it first if needed.
// Each page that it opens has cookies and storage of its own. Where Chromium is missing, Start
// skips the test, or fails it where CI=true. TestMain must call Close.
func Start(t testing.TB) *Browser {
	t.Helper()
	Need(t, Program())
	shared.start.Do(func() {
		shared.mu.Lock()
		defer shared.mu.Unlock()
		shared.ctx, shared.stop, shared.err = Launch()
	})
	shared.mu.Lock()
	defer shared.mu.Unlock()
	if shared.err != nil {
		t.Fatalf("start chromium: %v", shared.err)
	}
	return &Browser{}
}

// Close stops the shared Chromium if it runs.
func Close() {
	shared.mu.Lock()
	defer shared.mu.Unlock()
	if shared.stop != nil {
		shared.stop()
		shared.stop = nil
	}
}

// Main runs the tests of a package whose tests use Start, and returns the exit code.
func Main(m *testing.M) int {
	defer Close()
	return m.Run()
}

// Need skips a test that needs a program which is not there, and fails it where CI is true.
func Need(t testing.TB, program string) {
	t.Helper()
	if _, err := exec.LookPath(program); err == nil {
		return
	}
	if os.Getenv("CI") == "true" {
		t.Fatalf("%s is missing: make test installs it", program)
	}
	t.Skipf("%s is missing: make test installs it", program)
}

// A Page is a tab. Pages that Open opened share nothing; those of Tab share a profile.
type Page struct {
	t        testing.TB
	profile  context.Context
	ctx      context.Context
	requests chan string
}

// Open opens a page 1280 wide and 800 high.
func (b *Browser) Open(t testing.TB, address string) *Page {
	t.Helper()
	own, err := profile()
	if err != nil {
		t.Fatalf("make a browser profile: %v", err)
	}
	t.Cleanup(func() { giveBack(t, own, address) })
	return open(t, own, address)
}

// Tab opens another tab with the storage of this page.
func (p *Page) Tab(address string) *Page {
	p.t.Helper()
	return open(p.t, p.profile, address)
}

func open(t testing.TB, own context.Context, address string) *Page {
	t.Helper()
	ctx, cancel := chromedp.NewContext(own)
	t.Cleanup(cancel)
	p := &Page{t: t, profile: own, ctx: ctx, requests: make(chan string, 10_000)}
	err := chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *network.EventRequestWillBeSent:
			select {
			case p.requests <- e.Request.Method + " " + e.Request.URL:
			default:
			}
		case *runtime.EventExceptionThrown:
			t.Errorf("a script failed: %s %+v", e.ExceptionDetails.Text, e.ExceptionDetails.Exception)
		}
	})
	if err != nil {
		t.Fatalf("open a page: %v", err)
	}
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(address))
	return p
}

// Do makes actions.
func (p *Page) Do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		p.t.Fatalf("in the page: %v\n%s", err, p.sight())
	}
}

// sight is what the page shows, for a test that failed.
func (p *Page) sight() string {
	ctx, cancel := context.WithTimeout(p.ctx, time.Second)
	defer cancel()
	text, _ := chromedp.Run(ctx, chromedp.Evaluate[string](`document.body?.innerText ?? ""`))
	return text
}

// Eval evaluates a script, which may give a promise. A script that waits ends its own waits within patience,
// and says what it waited for.
func Eval[T any](p *Page, script string) T {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 2*patience)
	defer cancel()
	out, err := chromedp.Run(ctx, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatalf("in the page: %v\n%s", err, p.sight())
	}
	return out
}

// Go opens another address in the same tab.
func (p *Page) Go(address string) {
	p.t.Helper()
	p.Do(chromedp.Navigate(address))
}

// Reload loads the page again.
func (p *Page) Reload() {
	p.t.Helper()
	p.Do(chromedp.Reload())
}

// Until waits until a script is true. The page itself evaluates the script again and again.
func (p *Page) Until(script string) {
	p.t.Helper()
	wait := `new Promise(done => {
		const end = Date.now() + 2000
		const look = () => { if (` + script + `) done(true); else if (Date.now() > end) done(false); else setTimeout(again, 15) }
		const again = () => { try { look() } catch (e) { done(String(e)) } }
		again()
	})`
	var last any
	for until := time.Now().Add(patience); time.Now().Before(until); {
		ctx, cancel := context.WithTimeout(p.ctx, patience)
		out, err := chromedp.Run(ctx, chromedp.Evaluate[any](wait, chromedp.EvalAwaitPromise))
		cancel()
		if out == true {
			return
		}
		if last = out; err != nil { // the page is being loaded, or the script is wrong
			last = err
			time.Sleep(20 * time.Millisecond)
		}
	}
	p.t.Fatalf("it does not become true: %s (%v)\n%s", script, last, p.sight())
}

// Shows waits until the page shows texts.
func (p *Page) Shows(texts ...string) {
	p.t.Helper()
	for _, text := range texts {
		p.Until("(document.body?.innerText ?? '').includes(" + quote(text) + ")")
	}
}

func quote(s string) string {
	return `"` + strings.NewReplacer("\\", `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

// Click clicks the first element that matches a selector, with the mouse. It waits until the
// element is visible and stays in its place, and clicks again if the click missed it.
func (p *Page) Click(selector string) {
	p.t.Helper()
	element := "document.querySelector(" + quote(selector) + ")"
	for until := time.Now().Add(patience); time.Now().Before(until); {
		p.Until(element + "?.checkVisibility()")
		at := Eval[[]float64](p, `(async () => {
			const e = `+element+`, frame = () => new Promise(requestAnimationFrame)
			if (!e) return []
			e.scrollIntoView({ block: 'center', inline: 'nearest', behavior: 'instant' })
			e.addEventListener('click', () => { window.hit = true }, { once: true, capture: true })
			window.hit = false
			for (let last; ; await frame()) {
				const r = e.getBoundingClientRect(), now = r.x + ' ' + r.y + ' ' + r.width + ' ' + r.height
				if (now === last) return [r.x + r.width / 2, r.y + r.height / 2]
				last = now
			}
		})()`)
		if len(at) == 0 {
			continue
		}
		p.Do(chromedp.MouseClickXY(at[0], at[1]))
		if Eval[bool](p, "window.hit !== false") { // it is undefined on a page that the click opened
			return
		}
	}
	p.t.Fatalf("it can't be clicked: %s\n%s", selector, p.sight())
}

// Fill replaces the text of a field.
func (p *Page) Fill(selector, text string) {
	p.t.Helper()
	// In one step, so that nothing that is drawn in between changes the selection.
	Eval[bool](p, "{const e = document.querySelector("+quote(selector)+"); e.focus(); e.select(); document.execCommand('delete'); true}")
	call(p, input.InsertText, input.InsertTextParams{Text: text})
}

// Type types keys into the focused element.
func (p *Page) Type(keys string) {
	p.t.Helper()
	p.Do(chromedp.KeyEvent(keys))
}

// Text is the text of what a selector means.
func (p *Page) Text(selector string) string {
	p.t.Helper()
	return Eval[string](p, "document.querySelector("+quote(selector)+").innerText")
}

// Requests returns the requests since its last call.
func (p *Page) Requests() (all []string) {
	for {
		select {
		case r := <-p.requests:
			all = append(all, r)
		default:
			return all
		}
	}
}

func call[P, R any](p *Page, cmd cdp.Command[P, R], params P) {
	p.t.Helper()
	p.Do(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, cmd, params)
		return err
	}))
}
