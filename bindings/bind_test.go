package bindings

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

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

// watched has a test not be taken for one that ran already when these files changed.
func watched(t *testing.T, paths ...string) {
	t.Helper()
	for _, path := range paths {
		_, err := os.ReadFile(path)
		require.NoError(t, err)
	}
}

// bind has gobind make the files for Java and gives where they are, and the flags for C: what
// they miss is there too. Files for Android end in suffix.
func bind(t *testing.T, suffix string, packages ...string) (src, java, flags string) {
	t.Helper()
	if runtime.GOOS != "linux" {
		t.Skip("the library is built on Linux")
	}
	home := filepath.Dir(filepath.Dir(need(t, "javac")))
	made := "build" // within the module, so that it is built with its packages
	require.NoError(t, os.RemoveAll(made))
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(made)) })
	run(t, nil, "go", append([]string{"tool", "gobind", "-lang=java,go", "-outdir=" + made}, packages...)...)
	src, java = filepath.Join(made, "lib"), filepath.Join(made, "java")
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
	return src, java, fmt.Sprintf("CGO_CFLAGS=-D__GOBIND_ANDROID__ \"-I%s\" \"-I%s/include\" \"-I%[2]s/include/linux\"", abs, home)
}

// The Go side and gobind's C compile for Android; they are not linked, which takes its NDK.
func TestAndroidCompiles(t *testing.T) {
	cc := need(t, "aarch64-linux-gnu-gcc")
	src, _, flags := bind(t, "_android", boundPackages...)
	out := run(t, []string{"GOOS=android", "GOARCH=arm64", "CGO_ENABLED=1", "CC=" + cc, strings.Replace(flags, "-D__GOBIND_ANDROID__ ", "-D__GOBIND_ANDROID__ -Wno-incompatible-pointer-types ", 1)},
		"go", "list", "-tags", "netgo", "-export", "-f", "{{.Export}}", "./"+src)
	assert.NotEmpty(t, strings.TrimSpace(out), "what was compiled")
}

// The files for Swift and Objective-C are made whole, and nothing is left out of either.
func TestBoundWhole(t *testing.T) {
	dir := t.TempDir()
	run(t, nil, "go", "tool", "gobind", "-lang=java,objc", "-outdir="+dir, boundPackages[0], boundPackages[1])
	require.NoError(t, filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		assert.NotContains(t, string(raw), "skipped", path)
		return err
	}))
}

// An app in Objective-C is read against the headers, with stubs in place of Apple's Foundation.
func TestObjectiveCReads(t *testing.T) {
	clang, dir := need(t, "clang"), t.TempDir()
	watched(t, "testdata/objc/App.m", "testdata/objc/Foundation/Foundation.h", "testdata/objc/module.modulemap")
	run(t, nil, "go", "tool", "gobind", "-lang=objc", "-outdir="+dir, boundPackages[0], boundPackages[1])
	run(t, nil, clang, "-target", "arm64-apple-ios12", "-ffreestanding", "-fsyntax-only", "-x", "objective-c", "-fobjc-arc", "-fmodules", "-fmodules-cache-path="+filepath.Join(dir, "modules"),
		"-Wall", "-Werror", "-Itestdata/objc", "-I"+filepath.Join(dir, "src", "gobind"), "testdata/objc/App.m")
}
