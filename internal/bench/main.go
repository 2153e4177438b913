// Command bench compares the library, the client and the server with floors: the least work that does
// the same job, such as two loads for a Get, or a write and an fdatasync for a strict Set. It prints
// docs/benchmarks.md and exits with 1 if a median ratio is over its limit.
//
//	go run ./internal/bench [-rounds 21] [WORD...]
//
// With words it runs only the rows whose group or name contains one of them. Each row is measured in
// rounds, in which the floor and the measured code run one after the other, so that a slow moment of
// the machine meets both. The verdict rests on the median of the rounds' ratios. No absolute time
// decides anything.
package main

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"math"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/perf/benchmath"
)

func main() { os.Exit(run(os.Args[1:], os.Stdout, os.Stderr)) }

func run(args []string, stdout, stderr io.Writer) int {
	if len(args) == 2 && args[0] == "crowd" { // see besideOthers
		fmt.Fprintln(stderr, crowd(args[1]))
		return 1
	}
	if len(args) == 5 && args[0] == "streams" { // see site.beside
		if err := readStreams(args[1], args[2], args[3], args[4]); err != nil {
			fmt.Fprintln(stderr, "bench:", err)
			return 1
		}
		return 0
	}
	testing.Init()
	rounds := flag.Int("rounds", 21, "how often each row is measured")
	if err := errors.Join(flag.Set("test.benchtime", "40ms"), flag.CommandLine.Parse(args)); err != nil {
		fmt.Fprintln(stderr, "bench:", err)
		return 2
	}
	log.SetOutput(io.Discard) // warnings about large namespaces
	s := &suite{rounds: *rounds, words: flag.Args(), progress: stderr}
	for _, group := range []func(*suite) error{reading, writing, opening, growing, programs, clients, calls, resident, page} {
		if err := group(s); err != nil {
			fmt.Fprintln(stderr, "bench:", err)
			return 1
		}
	}
	return s.print(stdout)
}

// A suite collects the results of rows.
type suite struct {
	rounds   int
	words    []string
	progress io.Writer
	results  []result
}

// A row says what is compared with what.
type row struct {
	what, floor string
	limit       float64 // of the ratio
	atLeast     bool    // the ratio must be at least limit; else at most
	unit        unit
}

type unit struct {
	name  string
	scale float64
}

var (
	nanoseconds = unit{"ns", 1}
	perSecond   = unit{"/s", 1}
	kilobytes   = unit{"KB", 1e-3}
	megabytes   = unit{"MB", 1e-6}
)

type result struct {
	row
	measured, floors, ratios []float64
}

// wants reports whether a row is to be run.
func (s *suite) wants(what string) bool {
	return len(s.words) == 0 || slices.ContainsFunc(s.words, func(w string) bool { return strings.Contains(what, w) })
}

// A row of long rounds has at least enough of them, and no more than fit into longest.
const (
	enough  = 7
	longest = 8 * time.Second
)

// compare measures a row in rounds. Each function returns one value of a round.
func (s *suite) compare(r row, measured, floor func() (float64, error)) error {
	if !s.wants(r.what) {
		return nil
	}
	out := result{row: r}
	begun := time.Now()
	for n := range s.rounds {
		if n >= enough && time.Since(begun) > longest {
			break
		}
		base, err := floor()
		if err != nil {
			return fmt.Errorf("%s: %w", r.floor, err)
		}
		got, err := measured()
		if err != nil {
			return fmt.Errorf("%s: %w", r.what, err)
		}
		out.measured, out.floors, out.ratios = append(out.measured, got), append(out.floors, base), append(out.ratios, got/base)
	}
	s.results = append(s.results, out)
	fmt.Fprintf(s.progress, "%-6.3g %s (rounds: %d, %.1f s)\n", median(out.ratios), r.what, len(out.ratios), time.Since(begun).Seconds())
	return nil
}

// time compares the times of one operation.
func (s *suite) time(r row, measured, floor func(b *testing.B)) error {
	r.unit = nanoseconds
	return s.compare(r, timeOf(measured), timeOf(floor))
}

// timeOf returns a function that runs a benchmark and returns its nanoseconds per operation.
func timeOf(f func(b *testing.B)) func() (float64, error) {
	return func() (float64, error) {
		runtime.GC() // each pays for its own garbage
		r := testing.Benchmark(f)
		if r.N == 0 {
			return 0, fmt.Errorf("the benchmark failed")
		}
		return float64(r.T.Nanoseconds()) / float64(r.N), nil
	}
}

// rateOf is timeOf for operations per second.
func rateOf(f func(b *testing.B)) func() (float64, error) {
	ns := timeOf(f)
	return func() (float64, error) {
		n, err := ns()
		return 1e9 / n, err
	}
}

func median(all []float64) float64 { return summary(all).Center }

// summary returns the median and its 95 % confidence interval, as benchstat computes them.
func summary(all []float64) benchmath.Summary {
	return benchmath.AssumeNothing.Summary(benchmath.NewSample(slices.Clone(all), &benchmath.DefaultThresholds), 0.95)
}

func (s *suite) print(w io.Writer) (exit int) {
	fmt.Fprintf(w, `# Benchmarks

Each row compares our code with a floor: the least work that does the same job. Both run in turn, in up
to %d rounds, or fewer where a round takes long. The table shows medians. The spread is the 95 %% confidence
interval of the median ratio, as benchstat computes it. The times are those of one noisy machine. Only the
ratios are claims.
`+"`make bench`"+` made this page with %s on %s/%s, %d processors.

| what | floor | measured | floor | ratio | spread | limit |
|---|---|---|---|---|---|---|
`, s.rounds, runtime.Version(), runtime.GOOS, runtime.GOARCH, runtime.NumCPU())
	for _, r := range s.results {
		sum := summary(r.ratios)
		limit, over := "at most ", sum.Center > r.limit
		if r.atLeast {
			limit, over = "at least ", sum.Center < r.limit
		}
		mark := ""
		if over {
			mark, exit = " **over**", 1
		}
		spread := fmt.Sprintf("%.3g to %.3g", sum.Lo, sum.Hi)
		if math.IsInf(sum.Lo, 0) || math.IsInf(sum.Hi, 0) { // too few rounds for an interval
			spread = fmt.Sprintf("%.3g to %.3g", slices.Min(r.ratios), slices.Max(r.ratios))
		}
		fmt.Fprintf(w, "| %s | %s | %s | %s | %.3g%s | %s | %s%v |\n", r.what, r.floor, r.unit.format(median(r.measured)), r.unit.format(median(r.floors)), sum.Center, mark, spread, limit, r.limit)
	}
	return exit
}

// format writes a value with three digits and its unit.
func (u unit) format(x float64) string {
	x, name := x*u.scale, u.name
	for _, larger := range []string{"µs", "ms", "s"} {
		if u != nanoseconds || x < 1000 {
			break
		}
		x, name = x/1000, larger
	}
	if u == perSecond {
		return fmt.Sprintf("%.0f%s", x, name)
	}
	return strings.TrimSpace(fmt.Sprintf("%.3g %s", x, name))
}
