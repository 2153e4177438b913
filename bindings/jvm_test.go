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
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/pantrytest"
)

// A jvm is the library for the JVM of this machine, and the classes over it.
type jvm struct {
	lib, classes string   // directories; classes is a class path
	made         []string // the files of which classes was made
}

// build builds the library and compiles the Java classes over it. gobind's files are for Android,
// so bind renames them.
func build(t *testing.T) jvm {
	t.Helper()
	need(t, "cc")
	all, err := sources()
	require.NoError(t, err)
	lib := cached(t, "jvm-lib", all, func(dir string) {
		bind(t, "_jvm", boundPackages, func(src, _, flags string) {
			run(t, []string{flags + " -DON_JVM"}, "go", "build", "-buildmode=c-shared", "-ldflags=-s -w", "-o", filepath.Join(dir, "libgojni.so"), "./"+src)
		})
	})
	inputs, err := interfaces()
	require.NoError(t, err)
	inputs = append(slices.Clone(inputs), "testdata/java/Suite.java")
	classes := cached(t, "jvm-classes", inputs, func(dir string) {
		args := []string{"-Xlint:-removal", "-nowarn", "-d", dir, "testdata/java/Suite.java"}
		bind(t, "_jvm", boundPackages, func(_, java, _ string) {
			require.NoError(t, filepath.WalkDir(java, func(path string, _ os.DirEntry, err error) error {
				if strings.HasSuffix(path, ".java") {
					args = append(args, path)
				}
				return err
			}))
			run(t, nil, "javac", args...)
		})
	})
	return jvm{lib, classes, inputs}
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
		t.Parallel()
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
			t.Parallel()
			out, err := j.play(suite, scene, t.TempDir())
			require.NoError(t, err)
			assert.Contains(t, out, "ok\n")
		})
	}
}

// shared has an app use a board through an outage, and with a server that is slow.
func (j jvm) shared(t *testing.T, suite string) {
	t.Run("board", func(t *testing.T) {
		t.Parallel()
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
		t.Parallel()
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
	t.Parallel()
	j := build(t)
	t.Run("Java", func(t *testing.T) {
		t.Parallel()
		j.scenes(t, "Suite", "refusals", "commit", "watch", "many")
		j.killed(t, "Suite")
		j.shared(t, "Suite")
		j.together(t, "Suite")
	})
	t.Run("Kotlin", func(t *testing.T) {
		t.Parallel()
		k := j.kotlin(t, "suite", "kotlin/Pantry.kt", "kotlin/Records.kt", "kotlin/Board.kt", "testdata/kotlin/Suite.kt", "testdata/kotlin/Generated.kt")
		k.scenes(t, "SuiteKt", "refusals", "commit", "records", "flow", "many")
		k.killed(t, "SuiteKt")
		k.shared(t, "SuiteKt")
		k.together(t, "SuiteKt")
	})
	t.Run("page", func(t *testing.T) {
		t.Parallel()
		testPage(t, j)
	})
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
	paths, err := filepath.Glob("testdata/kotlin/android/*.kt")
	require.NoError(t, err)
	paths = append(paths, "kotlin/Pantry.kt", "kotlin/Records.kt", "kotlin/Board.kt", "testdata/kotlin/Screen.kt")
	for name, code := range map[string]string{"MainActivity.kt": blocks[0][1], "Shed.kt": board, "SealingKey.kt": blocks[2][1]} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(code), 0o600))
		paths = append(paths, path)
	}
	k, files := j.kotlin(t, "page", paths...), t.TempDir()
	for _, scene := range []string{"types", "finds"} {
		out, err := k.play("ScreenKt", scene, files)
		require.NoError(t, err)
		assert.Contains(t, out, "ok\n")
	}
}

// kotlin compiles an app in Kotlin against the library.
func (j jvm) kotlin(t *testing.T, app string, paths ...string) jvm {
	t.Helper()
	lib := filepath.Join("node_modules", "kotlin-compiler", "lib")
	if _, err := os.Stat(lib); err != nil && os.Getenv("CI") != "true" {
		t.Skip("the Kotlin compiler is missing: make test installs it")
	}
	all := strings.Join([]string{j.classes, filepath.Join(lib, "kotlinx-coroutines-core-jvm.jar"), filepath.Join(lib, "kotlin-stdlib.jar")}, ":")
	dir := cached(t, "kotlin-"+app, slices.Concat(j.made, paths, []string{"package-lock.json"}), func(dir string) {
		run(t, nil, "java", append([]string{"-Xmx1g", "-cp", filepath.Join(lib, "kotlin-compiler.jar") + ":" + filepath.Join(lib, "*"), "org.jetbrains.kotlin.cli.jvm.K2JVMCompiler",
			"-no-stdlib", "-Werror", "-cp", all, "-d", dir}, paths...)...)
	})
	return jvm{j.lib, dir + ":" + all, nil}
}
