package server

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/wire"
)

// openPages opens the directory of a developer's own pages.
func openPages(dir, data string) (*os.Root, error) {
	inside, err := within(data, dir)
	if err == nil && inside {
		err = fmt.Errorf("%s holds the boards (%s), which would be served as files: put the pages into a directory of their own", dir, data)
	}
	if err != nil {
		return nil, err
	}
	return os.OpenRoot(dir)
}

// within reports whether a directory is another one or is inside it, after following links.
func within(inner, outer string) (bool, error) {
	var real [2]string
	for i, dir := range []string{inner, outer} {
		abs, err := filepath.Abs(dir)
		if err == nil {
			abs, err = filepath.EvalSymlinks(abs)
		}
		if err != nil {
			return false, err
		}
		real[i] = abs
	}
	rel, err := filepath.Rel(real[1], real[0])
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)), nil
}

// wantsPage reports whether a path can be one of the developer's own pages.
func (c *request) wantsPage() bool {
	get := c.r.Method == http.MethodGet || c.r.Method == http.MethodHead
	return get && c.s.pages != nil && !strings.HasPrefix(c.r.URL.Path, "/v1/")
}

// page answers with a file of the developer's own pages, or with index.html for a path that ends in
// /. It serves no file whose name begins with a dot, and none outside the directory.
func (c *call) page() error {
	name := strings.TrimPrefix(c.r.URL.Path, "/")
	if strings.HasSuffix(name, "/") {
		name += "index.html"
	}
	none := wire.Refuse("no-route", "there is no page %q", c.r.URL.Path)
	for part := range strings.SplitSeq(name, "/") {
		if strings.HasPrefix(part, ".") || part == "" || strings.ContainsAny(part, "\\\x00") {
			return none
		}
	}
	f, err := c.s.pages.Open(filepath.FromSlash(name))
	if err != nil { // it is absent, or leads outside
		return none
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return none
	}
	http.ServeContent(c.w, c.r, path.Base(name), info.ModTime(), f)
	return nil
}

//go:embed front.html
var frontHTML string

var frontPage = template.Must(template.New("front").Parse(frontHTML))

// front answers at / with what this server is, and in development mode with its boards.
func (c *call) front() error {
	if _, err := c.query(); err != nil {
		return err
	}
	about := struct {
		Dev    bool
		Host   string
		Boards []store.Info
		Pages  bool
	}{Dev: c.s.dev, Host: c.r.Host}
	if c.s.dev {
		var err error
		if about.Boards, err = c.s.store.Boards(c.r.Context(), "", 0); err != nil {
			return err
		}
	}
	if c.s.pages != nil {
		_, err := fs.Stat(c.s.pages.FS(), "index.html")
		if about.Pages = err == nil; err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := c.takeTurn(); err != nil {
		return err
	}
	var b bytes.Buffer
	if err := frontPage.Execute(&b, about); err != nil {
		return err
	}
	return c.file(newFile(gzip.NewWriter(nil), ".html", b.Bytes()))
}
