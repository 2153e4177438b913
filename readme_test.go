package pantry_test

import (
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

// Every test that the documents name is there.
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
	for _, document := range []string{"docs/guarantees.md", "docs/mistakes.md", "docs/decisions.md"} {
		text, err := os.ReadFile(document)
		require.NoError(t, err)
		for _, name := range regexp.MustCompile(`\b(?:Test|Fuzz|Example)[A-Z]\w*`).FindAllString(string(text), -1) {
			assert.True(t, there[name], "%s names %s, which is not there", document, name)
		}
	}
}
