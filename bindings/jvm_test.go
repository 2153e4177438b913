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
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/bindings/jvm"
	"github.com/small-pantry/pantry/internal/test/console"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
)

// An app is a compiled suite, whose scenes are processes of their own.
type app struct{ jvm.App }

// build builds the library and compiles the Java suite over it.
func build(t *testing.T) app {
	t.Helper()
	for _, program := range []string{"cc", "java", "javac"} {
		need(t, program)
	}
	library, err := jvm.Library("testdata/java/Suite.java")
	require.NoError(t, err)
	return app{library}
}

// play plays a scene of a suite in a process of its own.
func (j app) play(suite, scene, dir string, more ...string) (string, error) {
	out, err := j.Command(suite, append([]string{scene, dir}, more...)...).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%s: %w:\n%s", scene, err, out)
	}
	return string(out), err
}

// killed has an app store each kind and kill itself, and another find all of it.
func (j app) killed(t *testing.T, suite string) {
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

func (j app) scenes(t *testing.T, suite string, scenes ...string) {
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
func (j app) shared(t *testing.T, suite string) {
	t.Run("board", func(t *testing.T) {
		t.Parallel()
		s := boardtest.NewServer(t)
		cmd := j.Command(suite, "board", t.TempDir(), s.Link("rowan-street"))
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
				s.Cut()
			case "back":
				s.Connect()
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
func (j app) together(t *testing.T, suite string) {
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
		k := j.kotlin(t, "suite", append([]string{"testdata/kotlin/Suite.kt", "testdata/kotlin/Generated.kt", "testdata/kotlin/GeneratedBoard.kt"}, jvm.Layer...)...)
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

// The apps in Kotlin of docs/kotlin.md and docs/keystore.md are compiled unchanged, against stubs of
// Android's classes. The screen with Views is driven in one process, and in another it shows what was stored.
func testPage(t *testing.T, j app) {
	blocks := func(page string) (code []string) {
		for _, m := range regexp.MustCompile("(?s)```kotlin\n(.*?)```").FindAllStringSubmatch(console.Page(t, "../docs/"+page), -1) {
			code = append(code, m[1])
		}
		return code
	}
	pages := blocks("kotlin.md")
	require.Len(t, pages, 3, "a screen with Views, one with Compose, and a board")
	dir := t.TempDir()
	compose := "package rowanstreet.plotbook\nimport androidx.compose.runtime.*\nimport androidx.compose.foundation.layout.Column\nimport androidx.compose.material3.*\nimport kotlinx.coroutines.launch\nimport pantry.*\n" + pages[1]
	board := "import androidx.activity.ComponentActivity\nimport androidx.lifecycle.lifecycleScope\nimport kotlinx.coroutines.flow.*\nimport pantry.*\n" +
		"object Garden : Declared() { val tankLitres by int(name = \"tank/litres\") }\nclass Label { var text = \"\" }\n" +
		"class Shed(val link: String, val filesDir: java.io.File, val label: Label) : ComponentActivity() {\nsuspend fun show() {\n" + pages[2] + "}\n}\n"
	paths, err := filepath.Glob("testdata/kotlin/android/*.kt")
	require.NoError(t, err)
	paths = append(append(paths, "testdata/kotlin/Screen.kt"), jvm.Layer...)
	for name, code := range map[string]string{"MainActivity.kt": pages[0], "SettingsScreen.kt": compose, "Shed.kt": board, "SealingKey.kt": blocks("keystore.md")[0]} {
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

// smallpantry new kotlin makes an app that passes its own test, refuses with a sentence, and counts on a
// board, also without a network.
func TestNewKotlin(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"cc", "java", "javac"} {
		need(t, program)
	}
	if _, err := jvm.Compiler(); err != nil && os.Getenv("CI") != "true" {
		t.Skip(err)
	}
	dir, home := filepath.Join(t.TempDir(), "garden-kotlin"), t.TempDir()
	made := exec.Command("go", "run", "./cmd/smallpantry", "new", "kotlin", dir)
	made.Dir = ".."
	out, err := made.CombinedOutput()
	require.NoError(t, err, string(out))
	s := boardtest.NewServer(t)
	app := func(args ...string) string {
		out, err := jvm.Run([]string{"XDG_CONFIG_HOME=" + home, "BOARD_LINK=" + s.Link("garden")}, filepath.Join(dir, "run"), args...)
		require.NoError(t, err)
		return out
	}
	assert.Contains(t, app("test"), "everything is stored")
	assert.Contains(t, app("hour", "7"), "remind at 7:00, metric")
	assert.Equal(t, "\"25\" won't do. Enter a whole number from 0 to 23.\nremind at 7:00, metric, to buy []\n", app("hour", "25"))
	assert.Regexp(t, `^1 cans, current, as of \d\d:\d\d\n`, app("can"))
	s.Cut()
	assert.Regexp(t, `(?m)^2 cans, queued, as of \d\d:\d\d\n`, app("can"))
}

// kotlin compiles an app in Kotlin against the library.
func (j app) kotlin(t *testing.T, name string, paths ...string) app {
	t.Helper()
	if _, err := jvm.Compiler(); err != nil && os.Getenv("CI") != "true" {
		t.Skip(err)
	}
	made, err := j.Kotlin(name, []string{"-Werror"}, paths...)
	require.NoError(t, err)
	return app{made}
}
