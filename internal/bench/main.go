// Command bench measures what docs/benchmarks.md claims, each figure as a ratio
// to a floor that is measured in the same run, and prints that page. It exits
// with 1 when a ratio is over its limit.
package main

import (
	"cmp"
	"fmt"
	"io"
	"log"
	"os"
	"runtime"
	"slices"
	"time"
)

// A row is one figure: what was measured, against what, and how large the
// ratio may be.
type row struct {
	what, floor string
	got, base   string
	ratio       float64
	limit       float64 // 0: it is not a ratio, and note tells
	atLeast     bool    // the ratio must be over the limit
	note        string
	bad         bool
}

func main() {
	if len(os.Args) == 3 && os.Args[1] == "crowd" {
		fmt.Fprintln(os.Stderr, crowd(os.Args[2]))
		os.Exit(1)
	}
	log.SetOutput(io.Discard) // that a namespace is large is meant here
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run() error {
	var rows []row
	for _, measure := range []func() ([]row, error){reading, fullHistory, watching, size, writing, limited, besideHistory, together, besideOthers, opening, growing, held, deleted, boards, calls, shown} {
		r, err := measure()
		if err != nil {
			return err
		}
		rows = append(rows, r...)
	}
	fmt.Printf(`# Benchmarks

Each figure is a ratio to a floor measured in the same run: the times are those
of one noisy machine, the ratios are the claim. Times and ratios are medians of
paired rounds, each its own.
Made by `+"`make bench`"+` with %s on %s/%s, %d processors.

| what | floor | measured | floor | ratio | limit |
|---|---|---|---|---|---|
`, runtime.Version(), runtime.GOOS, runtime.GOARCH, runtime.NumCPU())
	failed := false
	for _, r := range rows {
		ratio, limit := fmt.Sprintf("%.2f", r.ratio), "at most "
		if r.atLeast {
			limit = "at least "
		}
		limit += fmt.Sprint(r.limit)
		bad := r.bad || r.limit > 0 && (r.ratio > r.limit) != r.atLeast
		if r.limit == 0 {
			ratio, limit = "", r.note
		}
		if bad {
			ratio += " **over**"
			failed = true
		}
		fmt.Printf("| %s | %s | %s | %s | %s | %s |\n", r.what, r.floor, r.got, r.base, ratio, limit)
	}
	if failed {
		return fmt.Errorf("a ratio is over its limit")
	}
	return nil
}

// A pair is what the rounds of two functions gave: the medians of their times
// for one call, and of the rounds' ratios, which what slows the machine down
// for a while changes least.
type pair struct {
	got, base time.Duration
	ratio     float64
}

// paired runs two functions in turn, round by round. Each is called n times a round.
func paired(rounds, n int, measured, floor func(n int)) pair {
	var gots, bases []time.Duration
	for range rounds {
		bases = append(bases, timed(n, floor))
		gots = append(gots, timed(n, measured))
	}
	return pairOf(gots, bases)
}

func pairOf(gots, bases []time.Duration) pair {
	ratios := make([]float64, len(gots))
	for i := range gots {
		ratios[i] = float64(gots[i]) / float64(bases[i])
	}
	return pair{median(gots), median(bases), median(ratios)}
}

func timed(n int, f func(n int)) time.Duration {
	runtime.GC() // each pays for its own garbage
	start := time.Now()
	f(n)
	return time.Since(start) * 1000 / time.Duration(n) // in thousandths, for what takes less than 1 ns
}

func median[T cmp.Ordered](all []T) T {
	slices.Sort(all)
	return all[len(all)/2]
}

// perCall writes a time that timed gave.
func perCall(d time.Duration) string {
	ns := float64(d) / 1000
	switch {
	case ns < 1000:
		return fmt.Sprintf("%.2f ns", ns)
	case ns < 1e6:
		return fmt.Sprintf("%.1f µs", ns/1e3)
	}
	return fmt.Sprintf("%.2f ms", ns/1e6)
}

func compared(what, floor string, p pair, limit float64) row {
	return row{what: what, floor: floor, got: perCall(p.got), base: perCall(p.base), ratio: p.ratio, limit: limit}
}
