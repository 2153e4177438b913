package bindings

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	_ "github.com/small-pantry/pantry/mobile/shared" // what is bound here
	"github.com/small-pantry/pantry/pantrytest"
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

// A jvm is the library for the JVM of this machine, and the classes over it.
type jvm struct{ lib, classes string }

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

// build makes it: gobind's files are for Android, so they are renamed.
func build(t *testing.T) jvm {
	t.Helper()
	need(t, "cc")
	src, java, flags := bind(t, "_jvm", boundPackages...)
	j := jvm{t.TempDir(), t.TempDir()}
	run(t, []string{flags + " -DON_JVM"}, "go", "build", "-buildmode=c-shared", "-o", filepath.Join(j.lib, "libgojni.so"), "./"+src)
	watched(t, "testdata/java/Suite.java")
	sources := []string{"-Xlint:-removal", "-nowarn", "-d", j.classes, "testdata/java/Suite.java"}
	require.NoError(t, filepath.WalkDir(java, func(path string, _ os.DirEntry, err error) error {
		if strings.HasSuffix(path, ".java") {
			sources = append(sources, path)
		}
		return err
	}))
	run(t, nil, "javac", sources...)
	return j
}

// play plays a scene of a suite in a process of its own.
func (j jvm) play(suite, scene, dir string, more ...string) (string, error) {
	out, err := exec.Command("java", append([]string{"-Djava.library.path=" + j.lib, "-cp", j.classes, suite, scene, dir}, more...)...).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%s: %w:\n%s", scene, err, out)
	}
	return string(out), err
}

// killed has an app store each kind and kill itself, and another find all of it.
func (j jvm) killed(t *testing.T, suite string) {
	t.Run("killed", func(t *testing.T) {
		dir := t.TempDir()
		out, err := j.play(suite, "write", dir)
		var end *exec.ExitError
		require.True(t, errors.As(err, &end), "it kills itself: %v", err)
		assert.Contains(t, out, "ok\n")
		assert.Equal(t, -1, end.ExitCode())
		_, err = j.play(suite, "read", dir)
		require.NoError(t, err)
	})
}

func (j jvm) scenes(t *testing.T, suite string, scenes ...string) {
	for _, scene := range scenes {
		t.Run(scene, func(t *testing.T) {
			out, err := j.play(suite, scene, t.TempDir())
			require.NoError(t, err)
			assert.Contains(t, out, "ok\n")
		})
	}
}

// shared has an app use a board through an outage, and with a server that is slow.
func (j jvm) shared(t *testing.T, suite string) {
	t.Run("board", func(t *testing.T) {
		s := pantrytest.NewServer(t)
		cmd := exec.Command("java", "-Djava.library.path="+j.lib, "-cp", j.classes, suite, "board", t.TempDir(), s.Link("rowan-street"))
		var failed bytes.Buffer
		cmd.Stderr = &failed
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		var said []string
		for in := bufio.NewScanner(out); in.Scan(); {
			said = append(said, in.Text())
			switch in.Text() {
			case "cut":
				s.Cut(true)
			case "back":
				s.Cut(false)
			case "slow":
				s.Slow(3 * time.Second)
			}
		}
		s.Slow(0)
		require.NoError(t, cmd.Wait(), failed.String())
		assert.Equal(t, []string{"cut", "back", "slow", "ok"}, said)
	})
}

// together has two processes add to one number of one file.
func (j jvm) together(t *testing.T, suite string) {
	t.Run("two processes", func(t *testing.T) {
		dir := t.TempDir()
		var both sync.WaitGroup
		for range 2 {
			both.Go(func() {
				_, err := j.play(suite, "count", dir, "300")
				assert.NoError(t, err)
			})
		}
		both.Wait()
		_, err := j.play(suite, "sum", dir, "600")
		require.NoError(t, err)
	})
}

// What an app in Java, and one in Kotlin, get of package mobile, on the JVM of this machine.
func TestJVM(t *testing.T) {
	j := build(t)
	t.Run("Java", func(t *testing.T) {
		j.scenes(t, "Suite", "refusals", "commit", "watch", "many")
		j.killed(t, "Suite")
		j.shared(t, "Suite")
		j.together(t, "Suite")
	})
	t.Run("Kotlin", func(t *testing.T) {
		k := j.kotlin(t, "kotlin/Pantry.kt", "kotlin/Records.kt", "kotlin/Board.kt", "testdata/kotlin/Suite.kt")
		k.scenes(t, "SuiteKt", "refusals", "commit", "records", "flow", "many")
		k.killed(t, "SuiteKt")
		k.shared(t, "SuiteKt")
		k.together(t, "SuiteKt")
	})
	t.Run("page", func(t *testing.T) { testPage(t, j) })
}

// The app in Kotlin of docs/phones.md is compiled as it stands there, against stubs of Android's
// classes, and its screen driven in one process, and found as it was left in another.
func testPage(t *testing.T, j jvm) {
	page, err := os.ReadFile("../docs/phones.md")
	require.NoError(t, err)
	blocks := regexp.MustCompile("(?s)```kotlin\n(.*?)```").FindAllStringSubmatch(string(page), -1)
	require.Len(t, blocks, 3, "an app, a board, and the keystore")
	dir := t.TempDir()
	board := "import androidx.activity.ComponentActivity\nimport androidx.lifecycle.lifecycleScope\nimport kotlinx.coroutines.flow.*\nimport kotlinx.coroutines.launch\nimport pantry.*\n" +
		"object Garden : Keys() { val tankLitres by whole(name = \"tank/litres\") }\nclass Label { var text = \"\" }\n" +
		"class Shed(val link: String, val filesDir: java.io.File, val label: Label) : ComponentActivity() {\nfun show() {\n" + blocks[1][1] + "}\n}\n"
	sources, err := filepath.Glob("testdata/kotlin/android/*.kt")
	require.NoError(t, err)
	sources = append(sources, "kotlin/Pantry.kt", "kotlin/Records.kt", "kotlin/Board.kt", "testdata/kotlin/Screen.kt")
	for name, code := range map[string]string{"MainActivity.kt": blocks[0][1], "Shed.kt": board, "SealingKey.kt": blocks[2][1]} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(code), 0o600))
		sources = append(sources, path)
	}
	k, files := j.kotlin(t, sources...), t.TempDir()
	for _, scene := range []string{"types", "finds"} {
		out, err := k.play("ScreenKt", scene, files)
		require.NoError(t, err)
		assert.Contains(t, out, "ok\n")
	}
}

// kotlin compiles an app in Kotlin against the library.
func (j jvm) kotlin(t *testing.T, sources ...string) jvm {
	t.Helper()
	lib := filepath.Join("node_modules", "kotlin-compiler", "lib")
	if _, err := os.Stat(lib); err != nil && os.Getenv("CI") != "true" {
		t.Skip("the Kotlin compiler is missing: make test installs it")
	}
	watched(t, sources...)
	k := jvm{j.lib, t.TempDir()}
	all := strings.Join([]string{j.classes, filepath.Join(lib, "kotlinx-coroutines-core-jvm.jar"), filepath.Join(lib, "kotlin-stdlib.jar")}, ":")
	run(t, nil, "java", append([]string{"-Xmx1g", "-cp", filepath.Join(lib, "kotlin-compiler.jar") + ":" + filepath.Join(lib, "*"), "org.jetbrains.kotlin.cli.jvm.K2JVMCompiler",
		"-no-stdlib", "-Werror", "-cp", all, "-d", k.classes}, sources...)...)
	k.classes += ":" + all
	return k
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
