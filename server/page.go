package server

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"net/http"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/js"
)

// The page of a board, and the client for pages: static files that are the same for every board.
// The calls that they make are authorised as any others.

// The script and the style of the page are bundled from page/src. What that needs is pinned in
// page/package.json: npm ci, in page, installs it.
//
//go:generate go tool esbuild page/src/main.jsx --bundle --minify --format=esm --target=es2022 --jsx=automatic --jsx-import-source=preact --external:/small-pantry.js --legal-comments=none --splitting --chunk-names=[name] "--banner:js=// bundled by go generate from server/page/src, with Preact, uPlot and uqr (MIT)" --outdir=page --entry-names=page --log-level=warning
//go:generate go tool esbuild page/src/worker.js --minify --format=esm --target=es2022 --outfile=page/worker.js --log-level=warning
var (
	//go:embed page/index.html
	boardHTML []byte
	//go:embed page/*.js page/*.css
	pageFiles embed.FS
)

// A file of our own has a tag, so that a browser loads it once, and a compressed form.
type ownFile struct {
	body   []byte
	packed []byte // by gzip
	kind   string
	tag    string // without its quotes
}

// kindsOfFile are the content types by ending. The system's own table is not used.
var kindsOfFile = map[string]string{
	".js": "text/javascript; charset=utf-8", ".css": "text/css; charset=utf-8", ".html": "text/html; charset=utf-8", ".ts": "text/plain; charset=utf-8",
}

func newFile(w *gzip.Writer, name string, body []byte) ownFile {
	sum := sha256.Sum256(body)
	var packed bytes.Buffer
	w.Reset(&packed)
	_, err := w.Write(body)
	if err = errors.Join(err, w.Close()); err != nil {
		panic(err) // writing to memory can't fail
	}
	return ownFile{body, packed.Bytes(), kindsOfFile[path.Ext(name)], hex.EncodeToString(sum[:8])}
}

// ownFiles are the static files by path; "" is the page of a board. They are compressed at the
// first request, since most programs that have this package serve none.
var ownFiles = sync.OnceValue(func() map[string]ownFile {
	w := gzip.NewWriter(nil)
	all := map[string]ownFile{"": newFile(w, ".html", boardHTML), "/small-pantry.js": newFile(w, ".js", js.Module), "/small-pantry.d.ts": newFile(w, ".ts", js.Types)}
	files, err := pageFiles.ReadDir("page")
	for _, f := range files {
		var body []byte
		if body, err = pageFiles.ReadFile("page/" + f.Name()); err != nil {
			break
		}
		all["/small-pantry/"+f.Name()] = newFile(w, f.Name(), body)
	}
	if err != nil {
		panic(err) // they are part of the program
	}
	return all
})

// The page can load nothing from elsewhere, and no script but these files.
const contentPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// workerPath is the path of the page's service worker (W3C Service Workers).
const workerPath = "/small-pantry/worker.js"

// opensPage reports whether a browser opens a page with the request, from wherever it came.
func (c *request) opensPage() bool {
	get := c.r.Method == http.MethodGet || c.r.Method == http.MethodHead
	return get && (c.r.URL.Path == "/" || strings.HasPrefix(c.r.URL.Path, "/boards/"))
}

// ownFile answers with the client, or with a part of the page.
func (c *call) ownFile() error {
	f, found := ownFiles()[c.r.URL.Path]
	if !found {
		return wire.Refuse("no-route", "there is no file %q", c.r.URL.Path)
	}
	if c.r.URL.Path == workerPath {
		c.w.Header().Set("Service-Worker-Allowed", "/boards/") // the worker serves the pages of boards
	}
	return c.file(f)
}

// boardPage answers with the page of a board, which requests everything else itself. It does not
// tell whether the board exists.
func (c *call) boardPage() error {
	if err := journal.CheckName(c.board); err != nil {
		return err
	}
	return c.file(ownFiles()[""])
}

func (c *call) file(f ownFile) error {
	h := c.w.Header()
	h.Set("Content-Security-Policy", contentPolicy)
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Type", f.kind)
	h.Set("Vary", "Authorization, Accept, Origin, Accept-Encoding")
	body, tag := f.body, f.tag
	if takesGzip(c.r.Header.Get("Accept-Encoding")) {
		body, tag = f.packed, f.tag+"-gzip"
		h.Set("Content-Encoding", "gzip")
	}
	h.Set("ETag", `"`+tag+`"`)
	http.ServeContent(c.w, c.r, "", time.Time{}, bytes.NewReader(body))
	return nil
}

// takesGzip reports whether an Accept-Encoding header (RFC 9110, 12.5.3) names gzip with a weight
// above 0.
func takesGzip(accept string) bool {
	for part := range strings.SplitSeq(accept, ",") {
		coding, weight, _ := strings.Cut(part, ";")
		if strings.EqualFold(strings.TrimSpace(coding), "gzip") {
			q, err := strconv.ParseFloat(strings.TrimPrefix(strings.ReplaceAll(weight, " ", ""), "q="), 64)
			return err != nil || q > 0
		}
	}
	return false
}
