package bindings

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/bindings/jvm"
	"github.com/small-pantry/pantry/mobile"
)

// Writes docs/benchmarks-phones.md, where MEASURE names the file: make bench-phones.
func TestMeasure(t *testing.T) {
	path := os.Getenv("MEASURE")
	if path == "" {
		t.Skip("MEASURE names no file")
	}
	j := build(t)
	out, err := j.play("Suite", "measure", t.TempDir())
	require.NoError(t, err)
	var java [3]float64
	_, err = fmt.Sscan(out, &java[0], &java[1], &java[2])
	require.NoError(t, err, out)
	inGo := measureGo(t)
	rows := ""
	for i, what := range []string{"a read of a whole number", "a bind", "a durable write"} {
		rows += fmt.Sprintf("| %s | %s | %s | %.1f |\n", what, nanos(java[i]), nanos(inGo[i]), java[i]/inGo[i])
	}
	page := fmt.Sprintf(`# Through the binding: benchmarks

What a call costs in Java through the library that gobind makes, beside the same call of package mobile in
Go, in the same run: the ratios are the claim. The best of five rounds. Made by `+"`make bench-phones`"+` with
%s on %s/%s.

| what | in Java | in Go | ratio |
|---|---|---|---|
%s
## Size

What the library has on a device and, packed, on the way to it, in MB, without debug information (-s -w -trimpath): of package
mobile alone, and with boards; beside it an empty library of Go, to which the ratios are. Built
for Linux, since nothing is linked for Android here; what Android adds or leaves out is not known.

| architecture | nothing | device only | with boards | packed: nothing | device only | with boards | device only, times nothing | with boards, times nothing |
|---|---|---|---|---|---|---|---|---|
%s`, runtime.Version(), runtime.GOOS, runtime.GOARCH, rows, sizes(t))
	require.NoError(t, os.WriteFile(path, []byte(page), 0o600))
}

// architectures are those of phones and of their emulators, and who compiles C for them.
var architectures = []struct{ name, arch, cc string }{
	{"arm64", "arm64", "aarch64-linux-gnu-gcc"}, {"arm, 32 bits", "arm", "arm-linux-gnueabihf-gcc"}, {"x86, 64 bits", "amd64", "x86_64-linux-gnu-gcc"}, {"x86, 32 bits", "386", "i686-linux-gnu-gcc"},
}

// sizes returns a row for each architecture that has a compiler here.
func sizes(t *testing.T) string {
	type one struct{ built, packed float64 }
	of := map[string][3]one{}
	measure := func(i int, src, flags string) {
		for _, a := range architectures {
			cc, err := exec.LookPath(a.cc)
			if err != nil {
				continue
			}
			lib := filepath.Join(t.TempDir(), "lib.so")
			run(t, []string{"GOOS=linux", "GOARCH=" + a.arch, "CGO_ENABLED=1", "CC=" + cc, flags}, "go", "build", "-buildmode=c-shared", "-trimpath", "-ldflags=-s -w", "-o", lib, "./"+src)
			raw, err := os.ReadFile(lib)
			require.NoError(t, err)
			var packed bytes.Buffer
			z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
			require.NoError(t, err)
			_, err = z.Write(raw)
			require.NoError(t, errors.Join(err, z.Close()))
			all := of[a.name]
			all[i] = one{float64(len(raw)) / 1e6, float64(packed.Len()) / 1e6}
			of[a.name] = all
		}
	}
	empty, err := jvm.MadeDir()
	require.NoError(t, err)
	defer os.RemoveAll(empty)
	require.NoError(t, os.WriteFile(filepath.Join(empty, "main.go"), []byte("package main\n\nimport \"C\"\n\nfunc main() {}\n"), 0o600))
	measure(0, empty, "")
	for i, packages := range [][]string{jvm.Packages[:1], jvm.Packages} {
		require.NoError(t, jvm.Bind("_jvm", packages, func(src string, _ []string, flags string) error {
			measure(i+1, src, flags+" -DON_JVM")
			return nil
		}))
	}
	rows := ""
	for _, a := range architectures {
		if s, built := of[a.name]; built {
			rows += fmt.Sprintf("| %s | %.1f | %.1f | %.1f | %.1f | %.1f | %.1f | %.1f | %.1f |\n", a.name, s[0].built, s[1].built, s[2].built, s[0].packed, s[1].packed, s[2].packed,
				s[1].built/s[0].built, s[2].built/s[0].built)
		}
	}
	return rows
}

func nanos(ns float64) string {
	if ns < 1000 {
		return fmt.Sprintf("%.0f ns", ns)
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", ns/1000), ".0") + " µs"
}

func measureGo(t *testing.T) (best [3]float64) {
	keys := mobile.NewKeys()
	key := keys.IntKey("reminder-hour", 18).Between(0, 23)
	ns, err := mobile.Open(t.TempDir(), "plotbook", keys, nil)
	require.NoError(t, err)
	defer func() { require.NoError(t, ns.Close()) }()
	hour, err := key.Bind(ns)
	require.NoError(t, err)
	best = [3]float64{math.Inf(1), math.Inf(1), math.Inf(1)}
	timed := func(what, n int, f func(i int) error) {
		begun := time.Now()
		for i := range n {
			require.NoError(t, f(i))
		}
		best[what] = min(best[what], float64(time.Since(begun).Nanoseconds())/float64(n))
	}
	for range 5 {
		begun := time.Now()
		for range 1_000_000 {
			_, _ = hour.Get()
		}
		best[0] = min(best[0], float64(time.Since(begun).Nanoseconds())/1e6)
		timed(1, 50_000, func(int) error { _, err := key.Bind(ns); return err })
		timed(2, 2_000, func(i int) error { return hour.Set(int64(i % 24)) })
	}
	return best
}
