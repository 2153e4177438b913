package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
)

// in runs f with a namespace in a directory that goes away.
func in(f func(ns *pantry.Namespace) error) error {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return err
	}
	ns, err := pantry.Open(dir, "bench")
	if err != nil {
		return err
	}
	return errors.Join(f(ns), ns.Close(), os.RemoveAll(dir))
}

type frame struct {
	Open          bool
	Wide, Deep    float64
	Panes, Season int
}

func reading() (rows []row, err error) {
	err = in(func(ns *pantry.Namespace) error {
		hour := pantry.Int("hour", 18).In(ns)
		plot := pantry.Text("plot", "").In(ns)
		cold := pantry.Object("frame", frame{}).In(ns)
		if err := errors.Join(hour.Set(7), plot.Set("C4"), cold.Set(frame{Wide: 1.2})); err != nil {
			return err
		}
		var pi atomic.Pointer[int]
		pi.Store(new(int))
		const n = 2_000_000
		loadInt := func(n int) {
			var last int
			for range n {
				last += *pi.Load()
			}
			runtime.KeepAlive(last)
		}
		var ps atomic.Pointer[frame]
		ps.Store(new(frame))
		loadStruct := func(n int) {
			var last frame
			for range n {
				last = *ps.Load()
			}
			runtime.KeepAlive(last)
		}
		getInt := func(n int) {
			var last int
			for range n {
				last += hour.Get()
			}
			runtime.KeepAlive(last)
		}
		getText := func(n int) {
			var last string
			for range n {
				last = plot.Get()
			}
			runtime.KeepAlive(last)
		}
		getStruct := func(n int) {
			var last frame
			for range n {
				last = cold.Get()
			}
			runtime.KeepAlive(last)
		}
		const floor = "atomic pointer load and dereference"
		rows = append(rows, compared("Get of a bound int variable", floor, paired(21, n, getInt, loadInt), 5))
		rows = append(rows, compared("Get of a bound text variable", floor, paired(21, n, getText, loadInt), 5))
		rows = append(rows, compared("Get of a struct of five fields without references", floor+", of such a struct", paired(21, n, getStruct, loadStruct), 12))
		allocs := testing.AllocsPerRun(1000, func() { getInt(1); getText(1); getStruct(1) })
		rows = append(rows, row{what: "allocations of the three", floor: "", got: fmt.Sprint(allocs), note: "0", bad: allocs > 0})
		return nil
	})
	return rows, err
}

// watching measures how long after a commit has become visible to a reader
// that spins a watcher's body runs.
func watching() (rows []row, err error) {
	const rounds = 400
	var delays []time.Duration
	err = in(func(ns *pantry.Namespace) error {
		litres := pantry.Int("litres", -1).In(ns)
		start := time.Now()
		woken := make(chan time.Duration, 1)
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		ready := make(chan struct{})
		go func() {
			for x := range litres.Watch(ctx) {
				if x < 0 {
					close(ready)
					continue
				}
				woken <- time.Since(start)
			}
		}()
		<-ready
		for i := range rounds {
			failed := make(chan error, 1)
			go func() { failed <- litres.Set(i) }()
			for litres.Get() != i {
			}
			visible := time.Since(start)
			delays = append(delays, max(<-woken-visible, 0))
			if err := <-failed; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	p50 := median(delays)
	return []row{{what: "a watcher woken after a commit became visible, p50", got: fmt.Sprintf("%.1f µs", float64(p50)/1e3), note: "at most 50 µs", bad: p50 > 50*time.Microsecond}}, nil
}

const helloSource = `package main

import "fmt"

func main() { fmt.Println("hello") }
`

const appSource = `package main

import (
	"fmt"

	"github.com/small-pantry/pantry"
)

func main() {
	ns, err := pantry.Open("garden", "plotbook")
	if err != nil {
		fmt.Println(err)
		return
	}
	hour := pantry.Int("reminder-hour", 18).In(ns)
	fmt.Println(hour.Get(), hour.Set(7), ns.Close())
}
`

// size measures what a minimal app with one Int key grows by, stripped.
func size() ([]row, error) {
	dir, err := os.MkdirTemp(".", "bench-size-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	built := func(name, source string) (int64, error) {
		at := filepath.Join(dir, name)
		if err := os.Mkdir(at, 0o755); err != nil {
			return 0, err
		}
		if err := os.WriteFile(filepath.Join(at, "main.go"), []byte(source), 0o644); err != nil {
			return 0, err
		}
		out := filepath.Join(dir, name+".bin")
		cmd := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", out, "./"+at)
		cmd.Stderr = os.Stderr
		if err := cmd.Run(); err != nil {
			return 0, err
		}
		info, err := os.Stat(out)
		if err != nil {
			return 0, err
		}
		return info.Size(), nil
	}
	hello, err := built("hello", helloSource)
	if err != nil {
		return nil, err
	}
	app, err := built("app", appSource)
	if err != nil {
		return nil, err
	}
	const mib = 1 << 20
	grown := float64(app-hello) / mib
	return []row{{
		what: "what a minimal app with one Int key grows by, stripped", floor: "a program that prints one line",
		got: fmt.Sprintf("%.2f MiB", float64(app)/mib), base: fmt.Sprintf("%.2f MiB", float64(hello)/mib),
		note: fmt.Sprintf("%.2f MiB, at most 2", grown), bad: grown > 2,
	}}, nil
}
