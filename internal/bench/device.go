package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"

	"github.com/small-pantry/pantry"
)

// in runs f with a namespace in a directory that goes away.
func in(f func(ns *pantry.Namespace) error, options ...pantry.Option) error {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return err
	}
	ns, err := pantry.Open(dir, "bench", options...)
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

// twoLoads is what the floor of a Get is.
const twoLoads = "atomic pointer load and dereference: two loads"

// intLoads gives that floor for an int.
func intLoads() func(n int) {
	var p atomic.Pointer[int]
	p.Store(new(int))
	return func(n int) {
		var last int
		for range n {
			last += *p.Load()
		}
		runtime.KeepAlive(last)
	}
}

func reading() (rows []row, err error) {
	err = in(func(ns *pantry.Namespace) error {
		hour := pantry.Int("hour", 18).In(ns)
		plot := pantry.Text("plot", "").In(ns)
		cold := pantry.Object("frame", frame{}).In(ns)
		if err := errors.Join(hour.Set(7), plot.Set("C4"), cold.Set(frame{Wide: 1.2})); err != nil {
			return err
		}
		const n = 2_000_000
		loadInt := intLoads()
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
		const floor = twoLoads
		rows = append(rows, compared("Get of a bound int variable", floor, paired(21, n, getInt, loadInt), 6))
		rows = append(rows, compared("Get of a bound text variable", floor, paired(21, n, getText, loadInt), 6))
		rows = append(rows, compared("Get of a struct of five fields without references", floor+", of such a struct", paired(21, n, getStruct, loadStruct), 12))
		allocs := testing.AllocsPerRun(1000, func() { getInt(1); getText(1); getStruct(1) })
		rows = append(rows, row{what: "allocations of the three", floor: "", got: fmt.Sprint(allocs), note: "0", bad: allocs > 0})
		return nil
	})
	return rows, err
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

// built builds a program that stands in a directory of dir, stripped, and says where.
func built(dir, name, pkg string) (path string, err error) {
	path = filepath.Join(dir, name+".bin")
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", path, pkg)
	cmd.Stderr = os.Stderr
	return path, cmd.Run()
}

// builtFrom is built for a program of one file.
func builtFrom(dir, name, source string) (path string, err error) {
	at := filepath.Join(dir, name)
	if err := os.Mkdir(at, 0o755); err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(at, "main.go"), []byte(source), 0o644); err != nil {
		return "", err
	}
	return built(dir, name, "./"+at)
}

// size measures what a minimal app with one Int key grows by, stripped, and how
// long the command takes to start.
func size() ([]row, error) {
	dir, err := os.MkdirTemp(".", "bench-size-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	hello, err1 := builtFrom(dir, "hello", helloSource)
	app, err2 := builtFrom(dir, "app", appSource)
	command, err3 := built(dir, "command", "./cmd/smallpantry")
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	helloSize, err1 := os.Stat(hello)
	appSize, err2 := os.Stat(app)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	const mb = 1e6
	grown := float64(appSize.Size()-helloSize.Size()) / mb
	rows := []row{{
		what: "what a minimal app with one Int key grows by, stripped", floor: "a program that prints one line",
		got: fmt.Sprintf("%.2f MB", float64(appSize.Size())/mb), base: fmt.Sprintf("%.2f MB", float64(helloSize.Size())/mb),
		note: fmt.Sprintf("%.2f MB, at most 1.2", grown), bad: grown > 1.2,
	}}
	var failed error
	started := func(path string, args ...string) func(int) {
		return func(n int) {
			for range n {
				failed = errors.Join(failed, exec.Command(path, args...).Run())
			}
		}
	}
	p := paired(15, 10, started(command, "list", "--help"), started(hello))
	return append(rows, compared("start of the command, up to its help", "start of a program that prints one line", p, 5)), failed
}
