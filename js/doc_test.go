package js_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/internal/test/bundle"
	"github.com/small-pantry/pantry/internal/test/cases"
	"github.com/small-pantry/pantry/js"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The TypeScript of docs/pages.md compiles as it is written there, with types at the server's address; a
// value of another type does not.
func TestDocTypeScript(t *testing.T) {
	t.Parallel()
	tsc := tool(t, "typescript/bin/tsc")
	doc, err := os.ReadFile("../docs/pages.md")
	require.NoError(t, err)
	block := func(language string) string {
		_, text, _ := strings.Cut(string(doc), "```"+language+"\n")
		text, _, found := strings.Cut(text, "```")
		require.True(t, found)
		return text
	}
	types, err := os.ReadFile("small-pantry.d.ts")
	require.NoError(t, err)
	dir, app := t.TempDir(), block("ts")
	for file, text := range map[string]string{
		"tsconfig.json": block("json"), "app.ts": app, "wrong.ts": app + "join('').on(litres).set('many')\n", "small-pantry.d.ts": string(types),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
	}
	out, err := exec.Command("node", tsc, "--noEmit", "--skipDefaultLibCheck", "-p", dir).CombinedOutput()
	require.Error(t, err)
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	assert.Len(t, lines, 1)
	assert.Regexp(t, `wrong\.ts.* is not assignable to parameter of type 'number'`, lines[0])
}

// A client that openapi-typescript generates from openapi.json is type-checked with a program, which uses
// a board through it.
func TestGeneratedClient(t *testing.T) {
	t.Parallel()
	generator, tsc := tool(t, "openapi-typescript/bin/cli.js"), tool(t, "typescript/bin/tsc")
	dir, err := os.MkdirTemp("testdata", "generated-") // beside node_modules
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(dir)) })
	node := func(args ...string) string {
		out, err := exec.Command("node", args...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	program, err := os.ReadFile("testdata/generated.ts")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.mts"), program, 0o600))
	node(generator, "../server/openapi.json", "-o", filepath.Join(dir, "api.ts"))
	node(tsc, "--strict", "--target", "es2022", "--module", "nodenext", "--moduleResolution", "nodenext", "--lib", "es2022,dom", "--skipLibCheck", "--types", "node", filepath.Join(dir, "main.mts"))
	s, link := owned(t)
	token := link[strings.Index(link, "#")+1:]
	assert.Equal(t, "nothing is stored under nothing\n", node(filepath.Join(dir, "main.mjs"), s, token))
}

// The page of docs/pages.md, as it is written there, twice.
func TestDocPage(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../docs/pages.md")
	require.NoError(t, err)
	_, page, _ := strings.Cut(string(doc), "```html\n")
	page, _, found := strings.Cut(page, "```")
	require.True(t, found)
	dir := t.TempDir()
	pages := t.TempDir()
	s, err := server.New(server.Options{Data: filepath.Join(dir, "data"), Dev: true, Pages: pages, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	web := httptest.NewServer(s)
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		web.CloseClientConnections()
		web.Close()
	})
	require.NoError(t, os.WriteFile(filepath.Join(pages, "index.html"), []byte(strings.ReplaceAll(page, "http://127.0.0.1:8437", web.URL)), 0o600))
	b := browser.Start(t)
	one, two := b.Open(t, web.URL+"/index.html"), b.Open(t, web.URL+"/index.html")
	one.Shows("3200 litres", "current")
	two.Shows("3200 litres", "current")
	one.Click("#take")
	two.Shows("3190 litres")
	two.Click("#take")
	one.Shows("3180 litres")
}

// The lines about collections of docs/pages.md run as they are written there.
func TestDocCollections(t *testing.T) {
	t.Parallel()
	browser.Need(t, "node")
	doc, err := os.ReadFile("../docs/pages.md")
	require.NoError(t, err)
	_, code, _ := strings.Cut(string(doc), "```js\n")
	code, _, found := strings.Cut(code, "```")
	require.True(t, found)
	_, link := owned(t)
	module, err := filepath.Abs("small-pantry.js")
	require.NoError(t, err)
	program := "import { join, int, family, records } from 'file://" + module + "'\nconst shown = [], show = text => shown.push(text)\nconst board = join(process.argv[2])\n" + code + `
await notices.add({ text: 'the gate is open', by: 'Ben' })
while (!shown.includes('the gate is open')) await new Promise(done => setTimeout(done, 5))
console.log(JSON.stringify([best, notices.get(id).text]))
process.exit(0)
`
	file := filepath.Join(t.TempDir(), "collections.mjs")
	require.NoError(t, os.WriteFile(file, []byte(program), 0o600))
	out, err := exec.Command("node", file, link).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), `[[["Ana",250]],"bring gloves"]`)
}

// The module is small on the way to a page.
func TestModuleIsSmall(t *testing.T) {
	t.Parallel()
	var packed bytes.Buffer
	w, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	require.NoError(t, err)
	_, err = w.Write(js.Module)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	t.Logf("%d bytes, and %d gzipped", len(js.Module), packed.Len())
	assert.Less(t, packed.Len(), 15_000)
}

// The module is bundled from its sources.
func TestModuleIsBuilt(t *testing.T) {
	t.Parallel()
	made, err := bundle.Module(".", t.TempDir(), nil)
	require.NoError(t, err)
	raw, err := os.ReadFile(made)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(js.Module, raw), "js/src was changed: go generate ./js")
}

// tool is a program that npm has installed beside the module.
func tool(t *testing.T, path string) string {
	t.Helper()
	browser.Need(t, "node")
	path = filepath.Join("node_modules", path)
	if _, err := os.Stat(path); err != nil && os.Getenv("CI") != "true" {
		t.Skipf("%s is missing: make test installs it", path)
	}
	return path
}

// The types accept an app in TypeScript that uses everything, and reject each line marked wrong.
func TestTypes(t *testing.T) {
	t.Parallel()
	tsc := tool(t, "typescript/bin/tsc")
	out, _ := exec.Command("node", tsc, "--noEmit", "--strict", "--target", "es2022", "--module", "nodenext", "--moduleResolution", "nodenext", "--lib", "es2022,dom",
		"--skipDefaultLibCheck", "--typeRoots", t.TempDir(), "testdata/types.ts", "testdata/wrong.ts").CombinedOutput() // exits with 2 on errors
	raw, err := os.ReadFile("testdata/wrong.ts")
	require.NoError(t, err)
	var want, got []string
	for i, line := range strings.Split(string(raw), "\n") {
		if strings.Contains(line, "// wrong") {
			want = append(want, fmt.Sprintf("testdata/wrong.ts(%d", i+1))
		}
	}
	for _, line := range strings.Split(string(out), "\n") {
		if at, _, isError := strings.Cut(line, ": error TS"); isError {
			at, _, _ = strings.Cut(at, ",")
			got = append(got, at)
		}
	}
	assert.Equal(t, want, got, "%s", out)
}

// The package, as npm packs and installs it, runs.
func TestPackage(t *testing.T) {
	t.Parallel()
	browser.Need(t, "npm")
	dir := t.TempDir()
	npm := func(in string, args ...string) string {
		cmd := exec.Command("npm", append(args, "--offline", "--no-audit", "--no-fund", "--cache", filepath.Join(dir, "cache"))...)
		cmd.Dir = in
		out, err := cmd.Output()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	npm(".", "pack", "--pack-destination", dir)
	packed, err := filepath.Glob(filepath.Join(dir, "*.tgz"))
	require.NoError(t, err)
	require.Len(t, packed, 1)
	app := filepath.Join(dir, "app")
	require.NoError(t, os.MkdirAll(app, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(app, "package.json"), []byte(`{"name":"app","type":"module"}`), 0o644))
	npm(app, "install", packed[0])
	s := cases.NewServer(t)
	require.NoError(t, os.WriteFile(filepath.Join(app, "app.js"), []byte(`
		import { join, int } from 'small-pantry'
		const board = join(process.argv[2], { name: 'app' })
		const tank = board.on(int('tank/litres', 3200, { min: 0, max: 5000 }))
		console.log(await tank.add(-10))
		board.close()
	`), 0o644))
	cmd := exec.Command("node", "app.js", s.Link("rowan-street"))
	cmd.Dir = app
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "3190\n", string(out), "and it ends by itself, since it is closed")
	files, err := filepath.Glob(filepath.Join(app, "node_modules", "small-pantry", "*"))
	require.NoError(t, err)
	assert.Len(t, files, 4, "the module, its types, what it is and the README: %v", files)
}
