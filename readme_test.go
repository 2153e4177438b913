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

// What the README shows compiles and does what it says, and what the documents
// link to is there.
func TestReadme(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("README.md")
	require.NoError(t, err)
	dir := t.TempDir()
	goTool := func(args ...string) {
		t.Helper()
		out, err := exec.Command("go", args...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	blocks := regexp.MustCompile("(?s)```go\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	require.Len(t, blocks, 4, "first sight, a program, a settings screen and its rules")
	first, program, screen := blocks[0][1], blocks[1][1], blocks[2][1]+blocks[3][1]
	declared, used, _ := strings.Cut(first, "\n\n")
	for name, code := range map[string]string{
		"first": "package main\nimport (\"github.com/small-pantry/pantry\"; \"github.com/small-pantry/pantry/board\")\n" + declared +
			"\nfunc use(ns *pantry.Namespace, b *board.Board) {\n" + used + "\n_, _ = hour, tank\n}\nfunc main() {}\n",
		"screen": "package main\nimport (\"context\"; \"github.com/small-pantry/pantry\")\n" + screen + "\nfunc main() {}\n",
	} {
		file := filepath.Join(dir, name+".go")
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

	documents, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	for _, document := range append(documents, "README.md", "CHANGELOG.md") {
		text, err := os.ReadFile(document)
		require.NoError(t, err)
		for _, link := range regexp.MustCompile(`\]\(([^)#:]+)\)`).FindAllStringSubmatch(string(text), -1) {
			_, err := os.Stat(filepath.Join(filepath.Dir(document), link[1]))
			assert.NoError(t, err, "a link in %s", document)
		}
	}
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
