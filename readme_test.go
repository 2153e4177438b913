package pantry_test

import (
	"flag"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The programs in the README and in the documents compile, and the complete one prints what the text
// says.
func TestReadme(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	goTool := func(args ...string) {
		t.Helper()
		out, err := exec.Command("go", args...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	readme := goBlocks(t, "README.md")
	require.Len(t, readme, 2, "a first look and a complete program")
	declared, used, _ := strings.Cut(readme[0], "\n\n")
	program := readme[1]

	const pkg = "github.com/small-pantry/pantry"
	vetted := map[string]string{
		"first.go": source([]string{"context", pkg, pkg + "/board"}, declared,
			"func use(ctx context.Context, ns *pantry.Namespace, b *board.Board) {", used, "_, _, _ = hour, tank, ctx", "}"),
		"settings.go": source([]string{"context", pkg}, goBlocks(t, "docs/settings.md")...),
		"testing_test.go": source([]string{"testing", pkg, pkg + "/pantrytest"},
			append(goBlocks(t, "docs/testing.md"), `var hour = pantry.Int("reminder-hour", 18)`)...),
		"migrate_test.go": source([]string{"strconv", "strings", "testing", pkg, pkg + "/pantrytest"},
			append(goBlocks(t, "docs/migrate.md"), `var reminderHour = pantry.Int("reminder-hour", 18)`, `var steps []func(*pantry.Batch) error`)...),
		"offline.go":  source([]string{"fmt", pkg, pkg + "/board"}, append(goBlocks(t, "docs/offline.md"), `var litres = pantry.Int("tank/litres", 0)`)...),
		"debug.go":    source([]string{"log", pkg, pkg + "/debugview"}, goBlocks(t, "docs/debug.md")...),
		"security.go": source([]string{pkg, pkg + "/seal"}, goBlocks(t, "docs/security.md")...),
	}
	for name, code := range vetted {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(code), 0o600))
		goTool("vet", file)
	}

	file := filepath.Join(dir, "program.go")
	require.NoError(t, os.WriteFile(file, []byte(program), 0o600))
	goTool("build", "-o", filepath.Join(dir, "program"), file)
	for _, want := range []string{"reminding at 18\n", "reminding at 7\n", "reminding at 7\n"} {
		cmd := exec.Command(filepath.Join(dir, "program"))
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Equal(t, want, string(out))
	}
}

// Each link of a document leads to a file, and its anchor to a heading there.
func TestLinks(t *testing.T) {
	t.Parallel()
	documents, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	for _, document := range append(documents, "README.md", "CHANGELOG.md", "CONTRIBUTING.md", "SECURITY.md") {
		text, err := os.ReadFile(document)
		require.NoError(t, err)
		for _, link := range regexp.MustCompile(`\]\(([^)#:]*)(?:#([^)]+))?\)`).FindAllStringSubmatch(string(text), -1) {
			to := document
			if link[1] != "" {
				to = filepath.Join(filepath.Dir(document), link[1])
			}
			if _, err := os.Stat(to); assert.NoError(t, err, "a link in %s", document) && link[2] != "" {
				assert.Contains(t, anchors(t, to), link[2], "an anchor in %s", document)
			}
		}
	}
}

// anchors returns the anchors of a document's headings.
func anchors(t *testing.T, document string) []string {
	t.Helper()
	text, err := os.ReadFile(document)
	require.NoError(t, err)
	var all []string
	for _, h := range regexp.MustCompile(`(?m)^#+ (.*)$`).FindAllStringSubmatch(string(text), -1) {
		kept := regexp.MustCompile(`[^\p{L}\p{N} _-]`).ReplaceAllString(strings.ToLower(h[1]), "")
		all = append(all, strings.ReplaceAll(kept, " ", "-"))
	}
	return all
}

// goBlocks returns the Go programs that a document shows.
func goBlocks(t *testing.T, document string) []string {
	t.Helper()
	text, err := os.ReadFile(document)
	require.NoError(t, err)
	var blocks []string
	for _, b := range regexp.MustCompile("(?s)```go\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		blocks = append(blocks, b[1])
	}
	require.NotEmpty(t, blocks, document)
	return blocks
}

// source is a file of package main: its imports, the code, and an empty main.
func source(imports []string, code ...string) string {
	return "package main\nimport (\n\"" + strings.Join(imports, "\"\n\"") + "\"\n)\n" +
		strings.Join(code, "\n") + "\nfunc main() {}\n"
}

// Every test and example that the documents name exists.
func TestNamedTests(t *testing.T) {
	t.Parallel()
	there := map[string]bool{}
	require.NoError(t, filepath.WalkDir(".", func(path string, _ os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		code, err := os.ReadFile(path)
		for _, f := range regexp.MustCompile(`(?m)^func ((?:Test|Fuzz|Example)\w*)`).FindAllStringSubmatch(string(code), -1) {
			there[f[1]] = true
		}
		return err
	}))
	for _, document := range []string{"docs/guarantees.md", "docs/mistakes.md", "docs/decisions.md", "docs/api.md", "docs/http.md"} {
		text, err := os.ReadFile(document)
		require.NoError(t, err)
		for _, name := range regexp.MustCompile(`\b(?:Test|Fuzz|Example)[A-Z]\w*`).FindAllString(string(text), -1) {
			assert.True(t, there[name], "%s names %s, which does not exist", document, name)
		}
	}
}

// Every name in docs/api.md is one of the packages, and every file in docs/architecture.md is one of the
// repository.
func TestNamedCode(t *testing.T) {
	t.Parallel()
	known := map[string]bool{}
	for name, dir := range map[string]string{"pantry": ".", "board": "board", "pantrytest": "pantrytest", "seal": "seal", "server": "server"} {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		require.NoError(t, err)
		for _, file := range files {
			parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.SkipObjectResolution)
			require.NoError(t, err)
			for _, decl := range parsed.Decls {
				switch d := decl.(type) {
				case *ast.FuncDecl:
					known[name+"."+receiver(d)+d.Name.Name] = true
				case *ast.GenDecl:
					for _, spec := range d.Specs {
						if one, is := spec.(*ast.TypeSpec); is {
							known[name+"."+one.Name.Name] = true
						}
					}
				}
			}
		}
	}
	page, err := os.ReadFile("docs/api.md")
	require.NoError(t, err)
	named := regexp.MustCompile("`((?:pantry|board|pantrytest|seal|server)\\.[A-Z][\\w.]*)`").FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(named), 80)
	for _, m := range named {
		assert.True(t, known[m[1]], "docs/api.md names %s, which does not exist", m[1])
	}
	page, err = os.ReadFile("docs/architecture.md")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile("`([a-z][\\w/.-]*/[\\w.-]+\\.(?:go|js|json|md))`").FindAllStringSubmatch(string(page), -1) {
		_, err := os.Stat(m[1])
		assert.NoError(t, err, "docs/architecture.md")
	}
}

// receiver returns the type of a method and a dot, or "".
func receiver(f *ast.FuncDecl) string {
	if f.Recv == nil {
		return ""
	}
	of := f.Recv.List[0].Type
	if star, is := of.(*ast.StarExpr); is {
		of = star.X
	}
	if generic, is := of.(*ast.IndexExpr); is {
		of = generic.X
	}
	return of.(*ast.Ident).Name + "."
}

var updateFigures = flag.Bool("update", false, "write the figures of docs/performance.md again")

// The figures in docs/performance.md are those of docs/benchmarks.md, and no other document has figures of
// its rows. make bench writes both.
func TestFigures(t *testing.T) {
	t.Parallel()
	table, err := os.ReadFile("docs/benchmarks.md")
	require.NoError(t, err)
	ratios := map[string]string{}
	for line := range strings.Lines(string(table)) {
		if cells := strings.Split(line, " | "); len(cells) == 7 {
			ratios[strings.TrimPrefix(cells[0], "| ")] = cells[4]
		}
	}
	require.Greater(t, len(ratios), 20)
	raw, err := os.ReadFile("docs/performance.md")
	require.NoError(t, err)
	used := 0
	page := regexp.MustCompile("`([^`]+)`(: |, with the sync|[^`*]*?)\\*\\*([0-9.]+)\\*\\*").ReplaceAllStringFunc(string(raw), func(text string) string {
		name := strings.Split(text, "`")[1]
		ratio, known := ratios[strings.Join(strings.Fields(name), " ")]
		assert.True(t, known, "docs/benchmarks.md has no row %q", name)
		used++
		return text[:strings.Index(text, "**")+2] + ratio + "**"
	})
	assert.Equal(t, strings.Count(string(raw), "**")/2, used, "each figure belongs to a row")
	if *updateFigures {
		require.NoError(t, os.WriteFile("docs/performance.md", []byte(page), 0o644))
		return
	}
	assert.Equal(t, page, string(raw), "docs/performance.md has other figures: go test -run TestFigures . -update")
}
