package bindings

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// need has a test be skipped where a program is missing, unless all must be there.
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

var boundPackages = []string{"github.com/small-pantry/pantry/mobile", "github.com/small-pantry/pantry/mobile/shared"}

func run(t *testing.T, env []string, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %s:\n%s", name, strings.Join(args, " "), out)
	return string(out)
}

// sources returns the Go files from which the library is built, and the files that pin its
// tools. The result is computed once.
var sources = sync.OnceValues(func() ([]string, error) {
	return goFiles(append([]string{"-deps"}, boundPackages...)...)
})

// interfaces returns the Go files that gobind reads.
var interfaces = sync.OnceValues(func() ([]string, error) { return goFiles(boundPackages...) })

func goFiles(args ...string) ([]string, error) {
	args = append([]string{"list", "-f", `{{if not .Standard}}{{$dir := .Dir}}{{range .GoFiles}}{{$dir}}/{{.}}{{"\n"}}{{end}}{{end}}`}, args...)
	out, err := exec.Command("go", args...).Output()
	return append(strings.Fields(string(out)), "go.mod", "bind_test.go", "jvm_test.go"), err
}

// cached returns a directory that holds what build makes of inputs. It builds only if no earlier
// run of the tests built the same inputs: a hash of the files names the directory. A build that
// fails leaves nothing.
func cached(t *testing.T, what string, inputs []string, build func(dir string)) string {
	t.Helper()
	base, err := os.UserCacheDir()
	if err != nil {
		base = os.TempDir()
	}
	base = filepath.Join(base, "small-pantry-tests")
	hash := sha256.New()
	_, err = fmt.Fprintln(hash, what, runtime.Version(), run(t, nil, need(t, "java"), "-version"))
	require.NoError(t, err)
	for _, path := range inputs {
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		_, err = fmt.Fprintln(hash, filepath.Base(path), len(raw))
		require.NoError(t, err)
		_, err = hash.Write(raw)
		require.NoError(t, err)
	}
	dir := filepath.Join(base, fmt.Sprintf("%s-%x", what, hash.Sum(nil)[:12]))
	if _, err := os.Stat(dir); err == nil {
		return dir
	}
	old, err := filepath.Glob(filepath.Join(base, what+"-*"))
	require.NoError(t, err)
	for _, path := range old {
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > 7*24*time.Hour {
			require.NoError(t, os.RemoveAll(path))
		}
	}
	require.NoError(t, os.MkdirAll(base, 0o700))
	made, err := os.MkdirTemp(base, "building-")
	require.NoError(t, err)
	defer os.RemoveAll(made)
	build(made)
	if err := os.Rename(made, dir); err != nil && !errors.Is(err, fs.ErrExist) {
		require.NoError(t, err)
	}
	return dir
}

// What gobind's files for Android need, and no other machine has: a log, a context, and a jni.h
// that knows integers.
const (
	androidLog = `#pragma once
#include <stdarg.h>
enum { ANDROID_LOG_DEFAULT = 1, ANDROID_LOG_INFO = 4, ANDROID_LOG_WARN = 5, ANDROID_LOG_ERROR = 6, ANDROID_LOG_FATAL = 7 };
#ifndef ON_JVM
int __android_log_print(int level, const char *tag, const char *format, ...);
int __android_log_vprint(int level, const char *tag, const char *format, va_list args);
int __android_log_write(int level, const char *tag, const char *text);
#else
#include <stdio.h>
#define __android_log_print(level, tag, ...) (fprintf(stderr, tag ": " __VA_ARGS__), fputc('\n', stderr))
#endif
`
	androidJNI     = "#include <stdint.h>\n#include_next <jni.h>\n"
	androidContext = "package android.content; public class Context {}\n"
)

// bindMu serialises users of the directory build, which must lie within the module.
var bindMu sync.Mutex

// bind runs gobind for Java. It returns the directories of the Go and C files and of the Java
// files, and the flags for the C compiler. It adds the headers that the files need, and renames
// the files for Android to end in suffix. It calls use with the directories and removes them
// afterwards.
func bind(t *testing.T, suffix string, packages []string, use func(src, java, flags string)) {
	t.Helper()
	if runtime.GOOS != "linux" {
		t.Skip("the library is built on Linux")
	}
	home := filepath.Dir(filepath.Dir(need(t, "javac")))
	bindMu.Lock()
	defer bindMu.Unlock()
	const made = "_build" // within the module, so that the go command resolves its imports
	require.NoError(t, os.RemoveAll(made))
	defer func() { assert.NoError(t, os.RemoveAll(made)) }()
	run(t, nil, "go", append([]string{"tool", "gobind", "-lang=java,go", "-outdir=" + made}, packages...)...)
	src, java := filepath.Join(made, "lib"), filepath.Join(made, "java")
	for path, text := range map[string]string{
		filepath.Join(src, "android", "log.h"): androidLog, filepath.Join(src, "jni.h"): androidJNI,
		filepath.Join(java, "android", "content", "Context.java"): androidContext,
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	files, err := filepath.Glob(filepath.Join(made, "src", "gobind", "*"))
	require.NoError(t, err)
	forAndroid := regexp.MustCompile(`_android\.(go|c)$`)
	for _, path := range files {
		name := filepath.Base(path)
		if strings.Contains(name, "darwin") || strings.HasSuffix(name, ".objc.h") {
			continue
		}
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		text := strings.ReplaceAll(string(raw), "-llog", "")
		text = strings.Replace(text, "AttachCurrentThread(jvm, &env, NULL)", "AttachCurrentThread(jvm, (void **)&env, NULL)", 1)
		require.NoError(t, os.WriteFile(filepath.Join(src, forAndroid.ReplaceAllString(name, suffix+".$1")), []byte(text), 0o600))
	}
	abs, err := filepath.Abs(src)
	require.NoError(t, err)
	use(src, java, fmt.Sprintf("CGO_CFLAGS=-D__GOBIND_ANDROID__ \"-I%s\" \"-I%s/include\" \"-I%[2]s/include/linux\"", abs, home))
}

// headers returns a directory with the files that gobind generates for Java and Objective-C.
func headers(t *testing.T) string {
	t.Helper()
	inputs, err := interfaces()
	require.NoError(t, err)
	return cached(t, "headers", inputs, func(dir string) {
		run(t, nil, "go", append([]string{"tool", "gobind", "-lang=java,objc", "-outdir=" + dir}, boundPackages...)...)
	})
}

// gobind leaves nothing out of the files for Java and for Objective-C.
func TestBoundWhole(t *testing.T) {
	t.Parallel()
	require.NoError(t, filepath.WalkDir(headers(t), func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		assert.NotContains(t, string(raw), "skipped", path)
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
