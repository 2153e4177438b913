package bindings

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/small-pantry/pantry/bindings/jvm"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// need skips a test if a program is missing, and fails it where CI=true.
func need(t *testing.T, program string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err != nil && os.Getenv("CI") != "true" {
		t.Skipf("%s is missing: make test installs it", program)
	}
	require.NoError(t, err)
	path, err = filepath.EvalSymlinks(path)
	require.NoError(t, err)
	return path
}

// run runs a command and returns its output.
func run(t *testing.T, env []string, name string, args ...string) string {
	t.Helper()
	out, err := jvm.Run(env, name, args...)
	require.NoError(t, err)
	return out
}

// headers returns a directory with the files that gobind generates for Java and Objective-C.
func headers(t *testing.T) string {
	t.Helper()
	need(t, "java")
	dir, err := jvm.Generated(jvm.Packages)
	require.NoError(t, err)
	return dir
}

// forBoards are the names in package mobile that only package boards uses.
var forBoards = regexp.MustCompile(`skipped (method|function) \S*\b(ForBoard|WatchChanges|PassProblems|RecordFromBoard) `)

// gobind leaves nothing else out of the files for Java and for Objective-C.
func TestBoundWhole(t *testing.T) {
	t.Parallel()
	require.NoError(t, filepath.WalkDir(headers(t), func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		assert.NotContains(t, forBoards.ReplaceAllString(string(raw), ""), "skipped", path)
		return err
	}))
}

// clang parses an app in Objective-C against the generated headers, with stubs for Foundation.
func TestObjectiveCReads(t *testing.T) {
	t.Parallel()
	clang := need(t, "clang")
	run(t, nil, clang, "-target", "arm64-apple-ios12", "-ffreestanding", "-fsyntax-only", "-x", "objective-c", "-fobjc-arc", "-fmodules", "-fmodules-cache-path="+filepath.Join(t.TempDir(), "modules"),
		"-Wall", "-Werror", "-Itestdata/objc", "-I"+filepath.Join(headers(t), "src", "gobind"), "testdata/objc/App.m")
}

// The layer for Swift uses only names of the generated headers: no compiler for Swift is here.
func TestSwiftNames(t *testing.T) {
	t.Parallel()
	there := map[string]bool{}
	for _, name := range []string{"Mobile", "Boards"} {
		raw, err := os.ReadFile(filepath.Join(headers(t), "src", "gobind", name+".objc.h"))
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`@interface (\w+)|@protocol (\w+)|\b(\w+)\(|^- \([^)]*\)(\w+)|property [^;]*?(\w+);`).FindAllStringSubmatch(string(raw), -1) {
			there[strings.Join(m[1:], "")] = true
		}
		for _, m := range regexp.MustCompile(`(?m)^- \([^)]*\)(\w+)`).FindAllStringSubmatch(string(raw), -1) {
			there[m[1]] = true
		}
	}
	files, err := filepath.Glob("swift/*.swift")
	require.NoError(t, err)
	require.Len(t, files, 4)
	used := 0
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		code := regexp.MustCompile(`(?m)//.*$`).ReplaceAllString(string(raw), "")
		for _, name := range regexp.MustCompile(`\b(?:Mobile|Boards)[A-Z]\w+`).FindAllString(code, -1) {
			assert.True(t, there[strings.TrimSuffix(name, "Protocol")], "%s uses %s", file, name)
			used++
		}
		for _, m := range regexp.MustCompile(`\b(?:k|v|keys|ns|options|call|s)\.(\w+)`).FindAllStringSubmatch(code, -1) {
			assert.True(t, there[m[1]], "%s calls %s", file, m[1])
			used++
		}
	}
	assert.Greater(t, used, 200)
	for _, absent := range []string{"MobileWholeKey", "intKeys"} {
		assert.False(t, there[absent], "the check finds nothing")
	}
}
