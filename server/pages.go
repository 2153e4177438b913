package server

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/small-pantry/pantry/internal/wire"
)

// openPages opens the directory of a developer's own pages.
func openPages(dir, data string) (*os.Root, error) {
	inside, err := within(data, dir)
	if err == nil && inside {
		err = fmt.Errorf("%s holds the boards (%s), which would be served as files: keep the pages in a directory of their own", dir, data)
	}
	if err != nil {
		return nil, err
	}
	return os.OpenRoot(dir)
}

// within says whether a directory is another one, or lies in it, links followed.
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

// wantsPage says whether a path that is none of ours is that of a developer's own page.
func (c *call) wantsPage() bool {
	get := c.r.Method == http.MethodGet || c.r.Method == http.MethodHead
	return get && c.s.pages != nil && !strings.HasPrefix(c.r.URL.Path, "/v1/")
}

// page answers with a file of the developer's own pages; a path that ends in / with its
// index.html. No file whose name begins with a dot is served, and none outside.
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

// front answers at /: in development mode with what is here.
func (c *call) front() error {
	if _, err := c.query(); err != nil {
		return err
	}
	var b bytes.Buffer
	c.w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if !c.s.dev {
		fmt.Fprintf(&b, "Small Pantry, a shared store for small apps. A board is reached by its link, which whoever owns it gives away.\n")
		_, _ = io.Copy(c.w, &b)
		return nil
	}
	fmt.Fprintf(&b, "Small Pantry, a shared store for small apps, in development mode: for this machine only.\n\n")
	infos, err := c.s.store.Boards(c.r.Context(), "", 0)
	if err != nil {
		return err
	}
	for _, info := range infos {
		fmt.Fprintf(&b, "http://%s/v1/boards/%s/entries\n", c.r.Host, info.Board)
	}
	if len(infos) == 0 {
		fmt.Fprintf(&b, "There is no board yet; the first entry makes one:\n\n  curl -X PUT http://%s/v1/boards/rowan-street/entries/tank/litres -d 420\n", c.r.Host)
	}
	if c.s.pages != nil {
		if _, err := fs.Stat(c.s.pages.FS(), "index.html"); err == nil {
			fmt.Fprintf(&b, "\nYour page: http://%s/index.html\n", c.r.Host)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	fmt.Fprintf(&b, "\nThe calls: http://%s/openapi.json\n", c.r.Host)
	c.w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.Copy(c.w, &b)
	return nil
}
