// Package jvm builds the library that gobind makes of packages mobile and boards for the JVM of this
// machine, and apps in Java and Kotlin over it. What it builds is cached by a hash of its sources. The
// working directory must be that of module bindings.
package jvm

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// Packages are the Go packages of the library.
var Packages = []string{"github.com/small-pantry/pantry/mobile", "github.com/small-pantry/pantry/mobile/boards"}

// An App is a compiled program with the library that it uses.
type App struct {
	Lib       string   // the directory of the shared library
	ClassPath string   // of the classes
	inputs    []string // the files that the classes were made from
}

// short are the flags of the JVM for a compiler: it runs for seconds, and would use most of them to compute
// faster code for later.
var short = []string{"-XX:TieredStopAtLevel=1", "-XX:+UseSerialGC"}

// Command returns a command that runs the main function of a class.
func (a App) Command(class string, args ...string) *exec.Cmd {
	return exec.Command("java", append([]string{"-Djava.library.path=" + a.Lib, "-cp", a.ClassPath, class}, args...)...)
}

// Run runs a command with additional environment variables. Its error has the output.
func Run(env []string, name string, args ...string) (string, error) {
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%s %s: %w:\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out), nil
}

// sources returns the Go files that the library is built from.
func sources() ([]string, error) { return goFiles(append([]string{"-deps"}, Packages...)...) }

func goFiles(args ...string) ([]string, error) {
	args = append([]string{"list", "-f", `{{if not .Standard}}{{$dir := .Dir}}{{range .GoFiles}}{{$dir}}/{{.}}{{"\n"}}{{end}}{{end}}`}, args...)
	out, err := exec.Command("go", args...).Output()
	return append(strings.Fields(string(out)), "go.mod", filepath.Join("jvm", "jvm.go")), err
}

// Library builds the library, and the Java classes over it with some Java files of the caller.
func Library(java ...string) (App, error) {
	all, err := sources()
	if err != nil {
		return App{}, err
	}
	lib, err := cached("jvm-lib", all, func(dir string) error {
		return Bind("_jvm", Packages, func(src string, _ []string, flags string) error {
			_, err := Run([]string{flags + " -DON_JVM"}, "go", "build", "-buildmode=c-shared", "-ldflags=-s -w", "-o", filepath.Join(dir, "libgojni.so"), "./"+src)
			return err
		})
	})
	if err != nil {
		return App{}, err
	}
	inputs, err := goFiles(Packages...)
	if err != nil {
		return App{}, err
	}
	inputs = append(inputs, java...)
	classes, err := cached("jvm-classes", inputs, func(dir string) error {
		args := append([]string{"-J" + short[0], "-J" + short[1], "-Xlint:-removal", "-nowarn", "-d", dir}, java...)
		return Bind("_jvm", Packages, func(_ string, made []string, _ string) error {
			_, err := Run(nil, "javac", append(args, made...)...)
			return err
		})
	})
	return App{lib, classes, inputs}, err
}

// Layer are the files of the layer for Kotlin.
var Layer = []string{"kotlin/Pantry.kt", "kotlin/Records.kt", "kotlin/Board.kt"}

// Compiler returns the directory of the Kotlin compiler's jars: that of npm, or of kotlinc on the PATH.
func Compiler() (string, error) {
	lib := filepath.Join("node_modules", "kotlin-compiler", "lib")
	if _, err := os.Stat(lib); err == nil {
		return lib, nil
	}
	path, err := exec.LookPath("kotlinc")
	if err == nil {
		path, err = filepath.EvalSymlinks(path)
	}
	if err != nil {
		return "", errors.New("the Kotlin compiler is missing: run npm ci in bindings, or install kotlinc")
	}
	return filepath.Join(filepath.Dir(filepath.Dir(path)), "lib"), nil
}

// Kotlin compiles files in Kotlin over the library, with flags for the compiler.
func (a App) Kotlin(name string, flags []string, paths ...string) (App, error) {
	lib, err := Compiler()
	if err != nil {
		return App{}, err
	}
	all := strings.Join([]string{a.ClassPath, filepath.Join(lib, "kotlinx-coroutines-core-jvm.jar"), filepath.Join(lib, "kotlin-stdlib.jar")}, ":")
	dir, err := cached("kotlin-"+name, slices.Concat(a.inputs, paths, []string{"package-lock.json"}), func(dir string) error {
		args := []string{"-Xmx1g", "-cp", filepath.Join(lib, "kotlin-compiler.jar") + ":" + filepath.Join(lib, "*"), "org.jetbrains.kotlin.cli.jvm.K2JVMCompiler", "-no-stdlib", "-cp", all, "-d", dir}
		_, err := Run(nil, "java", slices.Concat(short, args, flags, paths)...)
		return err
	})
	return App{a.Lib, dir + ":" + all, nil}, err
}

// Generated returns a directory with the files that gobind generates from packages, for Go, Java and
// Objective-C.
func Generated(packages []string) (string, error) {
	inputs, err := goFiles(packages...)
	if err != nil {
		return "", err
	}
	return cached("gobind", inputs, func(dir string) error {
		_, err := Run(nil, "go", append([]string{"tool", "gobind", "-lang=go,java,objc", "-outdir=" + dir}, packages...)...)
		return err
	})
}

// cached returns a directory that holds what build makes of inputs. It builds only if the same inputs
// were not built before: a hash of the files names the directory. Who needs it while it is built waits,
// also in another process. A build that fails leaves nothing.
func cached(what string, inputs []string, build func(dir string) error) (string, error) {
	base, err := os.UserCacheDir()
	if err != nil {
		base = os.TempDir()
	}
	base = filepath.Join(base, "small-pantry-jvm")
	version, err := Run(nil, "java", "-version")
	if err != nil {
		return "", err
	}
	hash := sha256.New()
	fmt.Fprintln(hash, what, runtime.Version(), version) // a hash never fails
	for _, path := range inputs {
		raw, err := os.ReadFile(path)
		if err != nil {
			return "", err
		}
		fmt.Fprintln(hash, filepath.Base(path), len(raw))
		hash.Write(raw)
	}
	dir := filepath.Join(base, fmt.Sprintf("%s-%x", what, hash.Sum(nil)[:12]))
	if err := os.MkdirAll(base, 0o700); err != nil {
		return "", err
	}
	lock := flock.New(filepath.Join(base, what+".lock"))
	if err := lock.Lock(); err != nil {
		return "", err
	}
	defer lock.Close()
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	old, _ := filepath.Glob(filepath.Join(base, what+"-*")) // the pattern is valid
	for _, path := range old {
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > 7*24*time.Hour {
			if err := os.RemoveAll(path); err != nil {
				return "", err
			}
		}
	}
	made, err := os.MkdirTemp(base, "building-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(made)
	if err := build(made); err != nil {
		return "", err
	}
	return dir, os.Rename(made, dir)
}

// What gobind's files for Android need and other machines lack: a log, a context, and a jni.h that
// includes the integer types.
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

// MadeDir makes a directory within the module, so that the go command resolves imports of what is in it.
func MadeDir() (string, error) { return os.MkdirTemp(".", "_build-") }

// Bind prepares what gobind generates for Java. It calls use with the directory of the Go and C files, with
// the Java files, and with the flags for the C compiler, and removes the files afterwards. It adds the
// headers that the files need, and renames the files for Android to end in suffix.
func Bind(suffix string, packages []string, use func(src string, java []string, flags string) error) (err error) {
	if runtime.GOOS != "linux" {
		return errors.New("the library for the JVM is built on Linux")
	}
	javac, err := exec.LookPath("javac")
	if err == nil {
		javac, err = filepath.EvalSymlinks(javac)
	}
	if err != nil {
		return err
	}
	generated, err := Generated(packages)
	if err != nil {
		return err
	}
	home := filepath.Dir(filepath.Dir(javac))
	made, err := MadeDir()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(made)) }()
	src, context := filepath.Join(made, "lib"), filepath.Join(made, "java", "android", "content", "Context.java")
	for path, text := range map[string]string{
		filepath.Join(src, "android", "log.h"): androidLog, filepath.Join(src, "jni.h"): androidJNI, context: androidContext,
	} {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return err
		}
	}
	files, err := filepath.Glob(filepath.Join(generated, "src", "gobind", "*"))
	if err != nil {
		return err
	}
	forAndroid := regexp.MustCompile(`_android\.(go|c)$`)
	for _, path := range files {
		name := filepath.Base(path)
		if strings.Contains(name, "darwin") || strings.HasSuffix(name, ".objc.h") || strings.HasSuffix(name, ".m") {
			continue
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		text := strings.ReplaceAll(string(raw), "-llog", "")
		text = strings.Replace(text, "AttachCurrentThread(jvm, &env, NULL)", "AttachCurrentThread(jvm, (void **)&env, NULL)", 1)
		if err := os.WriteFile(filepath.Join(src, forAndroid.ReplaceAllString(name, suffix+".$1")), []byte(text), 0o600); err != nil {
			return err
		}
	}
	abs, err := filepath.Abs(src)
	if err != nil {
		return err
	}
	java, err := javaFiles(filepath.Join(generated, "java"))
	if err != nil {
		return err
	}
	return use(src, append(java, context), fmt.Sprintf("CGO_CFLAGS=-D__GOBIND_ANDROID__ \"-I%s\" \"-I%s/include\" \"-I%[2]s/include/linux\"", abs, home))
}

func javaFiles(dir string) (paths []string, err error) {
	err = filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if strings.HasSuffix(path, ".java") {
			paths = append(paths, path)
		}
		return err
	})
	return paths, err
}
