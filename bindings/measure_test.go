package bindings

import (
	"fmt"
	"math"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/mobile"
)

// Writes docs/benchmarks-phones.md, where MEASURE names the file: make bench-phones.
func TestMeasure(t *testing.T) {
	path := os.Getenv("MEASURE")
	if path == "" {
		t.Skip("MEASURE names no file")
	}
	j := build(t)
	whole, err := os.Stat(j.lib + "/libgojni.so")
	require.NoError(t, err)
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
The library for this machine, of mobile and shared: %.1f MB as it is built.
`, runtime.Version(), runtime.GOOS, runtime.GOARCH, rows, float64(whole.Size())/1e6)
	require.NoError(t, os.WriteFile(path, []byte(page), 0o600))
}

func nanos(ns float64) string {
	if ns < 1000 {
		return fmt.Sprintf("%.0f ns", ns)
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", ns/1000), ".0") + " µs"
}

func measureGo(t *testing.T) (best [3]float64) {
	keys := mobile.NewKeys()
	key := keys.Whole("reminder-hour", 18).Between(0, 23)
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
