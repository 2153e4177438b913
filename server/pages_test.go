package server_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/server"
)

// A developer's own pages, from the same origin.
func TestOwnPages(t *testing.T) {
	t.Parallel()
	data, dir := t.TempDir(), t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("index.html", "<p>garden")
	write("app.js", "// app")
	write("beds/index.html", "<p>beds")
	write(".secret", "secret")
	write(".git/config", "secret")
	write("v1/boards/index.html", "hides")
	require.NoError(t, os.WriteFile(filepath.Join(data, "outside"), []byte("outside"), 0o600))
	require.NoError(t, os.Symlink(filepath.Join(data, "outside"), filepath.Join(dir, "link")))
	base, _ := startWith(t, server.Options{Data: data, Dev: true, Pages: dir})
	for path, want := range map[string]string{"/index.html": "<p>garden", "/app.js": "// app", "/beds/": "<p>beds", "/beds/index.html": "<p>beds"} {
		a := ask(t, "GET", base+path, "")
		assert.Equal(t, []any{200, want}, []any{a.status, a.body}, path)
		assert.Equal(t, "private, no-cache", a.header.Get("Cache-Control"))
	}
	assert.Contains(t, ask(t, "GET", base+"/app.js", "").header.Get("Content-Type"), "javascript")
	assert.Equal(t, 200, ask(t, "GET", base+"/index.html", "", "Sec-Fetch-Site", "cross-site").status, "a page can be opened from elsewhere")
	for _, path := range []string{"/beds", "/none", "/.secret", "/.git/config", "/link", "/beds/../.secret", "/beds/%2e%2e/%2e%2e/outside", "//app.js", "/v1/boards/index.html/", "/%00"} {
		a := ask(t, "GET", base+path, "")
		assert.Equal(t, "no-route", a.code(), "%s: %s", path, a.body)
	}
	assert.Equal(t, "no-route", ask(t, "POST", base+"/app.js", "").code())
	a := ask(t, "GET", base+"/", "")
	assert.Contains(t, a.body, "/index.html")
	assert.Contains(t, a.body, "curl -X PUT")
	_, err := server.New(server.Options{Data: filepath.Join(dir, "boards"), Dev: true, Pages: dir})
	assert.ErrorContains(t, err, "holds the boards")
	_, err = server.New(server.Options{Data: t.TempDir(), Dev: true, Pages: filepath.Join(dir, "none")})
	assert.ErrorIs(t, err, os.ErrNotExist)
}
