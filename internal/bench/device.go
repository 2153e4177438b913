package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

// prompt is the time of SyncWithin in these benchmarks.
const prompt = 250 * time.Millisecond

// in calls f with a namespace in a temporary directory.
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

// fill stores n ints in one commit.
func fill(ns *pantry.Namespace, n int) error {
	return ns.Commit(func(b *pantry.Batch) error {
		for i := range n {
			if err := b.Put(fmt.Sprintf("beds/%06d", i), value.Int(int64(i)*37)); err != nil {
				return err
			}
		}
		return nil
	})
}

// A frame is a struct of five fields without references.
type frame struct {
	Open          bool
	Wide, Deep    float64
	Panes, Season int
}

// loads is the floor of a Get: it loads a pointer and what that points to.
func loads[T any]() func(b *testing.B) {
	var p atomic.Pointer[T]
	p.Store(new(T))
	return func(b *testing.B) {
		var last T
		for range b.N {
			last = *p.Load()
		}
		runtime.KeepAlive(last)
	}
}

func reading(s *suite) error {
	return in(func(ns *pantry.Namespace) error {
		hour := pantry.Int("hour", 18).In(ns)
		plot := pantry.Text("plot", "").In(ns)
		cold := pantry.Object("frame", frame{}).In(ns)
		return errors.Join(hour.Set(7), plot.Set("C4"), cold.Set(frame{Wide: 1.2}),
			s.time(row{what: "Get of an int", floor: "two loads: an atomic pointer and its target", limit: 2.5}, func(b *testing.B) {
				var last int
				for range b.N {
					last = hour.Get()
				}
				runtime.KeepAlive(last)
			}, loads[int]()),
			s.time(row{what: "Get of a text", floor: "two loads of a string", limit: 2.5}, func(b *testing.B) {
				var last string
				for range b.N {
					last = plot.Get()
				}
				runtime.KeepAlive(last)
			}, loads[string]()),
			s.time(row{what: "Get of a struct of five fields", floor: "two loads of such a struct", limit: 7}, func(b *testing.B) {
				var last frame
				for range b.N {
					last = cold.Get()
				}
				runtime.KeepAlive(last)
			}, loads[frame]()),
		)
	})
}

// setting sets a variable to changing values.
func setting(ns *pantry.Namespace) func(b *testing.B) {
	hour := pantry.Int("reminder-hour", 18).In(ns)
	n := 0
	return func(b *testing.B) {
		for range b.N {
			n++
			if err := hour.Set(10 + n%10); err != nil {
				b.Fatal(err)
			}
		}
	}
}

// appending does what a Set of ns does, by bare system calls, on a file of its own: it locks a lock file,
// looks at the path of the file, writes a line of the same length as the newest one of ns, and unlocks.
// With sync it also looks at the path of the lock file, and calls fdatasync.
func appending(ns *pantry.Namespace, sync bool) (func(b *testing.B), error) {
	if err := pantry.Int("reminder-hour", 18).In(ns).Set(11); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(ns.Path())
	if err != nil {
		return nil, err
	}
	data = bytes.TrimSuffix(data, []byte("\n"))
	line := append(data[bytes.LastIndexByte(data, '\n')+1:], '\n')
	path := filepath.Join(filepath.Dir(ns.Path()), "floor")
	file, err := os.Create(path)
	if err != nil {
		return nil, err
	}
	lock, err := os.Create(path + ".lock")
	if err != nil {
		return nil, err
	}
	once := bareSet(file, lock, line, sync)
	return func(b *testing.B) {
		for range b.N {
			if err := once(); err != nil {
				b.Fatal(err)
			}
		}
	}, nil
}

func writing(s *suite) error {
	synced := func(ns *pantry.Namespace) error {
		one, err := appending(ns, true)
		if err != nil {
			return err
		}
		return errors.Join(
			s.time(row{what: "strict Set", floor: "flock, a look at both paths, write, fdatasync and unlock by system calls", limit: 1.2}, setting(ns), one),
			s.compare(row{what: "commits of 64 writers", floor: "commits of one writer", limit: 7, atLeast: true, unit: perSecond}, rateOf(writers(ns, 64)), rateOf(writers(ns, 1))),
			s.time(row{what: "strict Set beside a reader of History", floor: "a strict Set alone", limit: 2.8}, besideHistory(ns), setting(ns)),
		)
	}
	unsynced := func(ns *pantry.Namespace) error {
		floor, err := appending(ns, false)
		if err != nil {
			return err
		}
		return s.time(row{what: "prompt Set", floor: "flock, a look at the path, write and unlock by system calls", limit: 2.5}, setting(ns), floor)
	}
	limited := func(ns *pantry.Namespace) error {
		return in(func(free *pantry.Namespace) error {
			if err := errors.Join(fill(ns, 10_000), fill(free, 10_000)); err != nil {
				return err
			}
			return s.time(row{what: "prompt Set under Limits among 10,000 entries", floor: "the same without Limits", limit: 1.5}, setting(ns), setting(free))
		}, pantry.SyncWithin(prompt))
	}
	watched := func(ns *pantry.Namespace) error {
		return in(func(large *pantry.Namespace) error {
			if err := fill(large, 10_000); err != nil {
				return err
			}
			one, stopOne := waking(ns)
			defer stopOne()
			many, stopMany := waking(large)
			defer stopMany()
			return errors.Join(
				s.time(row{what: "from a prompt Set to the body of a Watch", floor: "a prompt Set and a value through a channel", limit: 3}, one, handingOver(ns)),
				s.time(row{what: "the same, of one key among 10,000", floor: "of the only key", limit: 1.5}, many, one),
			)
		}, pantry.SyncWithin(prompt))
	}
	return errors.Join(in(synced), in(unsynced, pantry.SyncWithin(prompt)), in(limited, pantry.SyncWithin(prompt), pantry.MaxValue(1<<16), pantry.MaxTotal(1<<24)), in(watched, pantry.SyncWithin(prompt)), besideOthers(s))
}

// writers commits from several goroutines, each to a variable of its own.
func writers(ns *pantry.Namespace, n int) func(b *testing.B) {
	next := make([]int, n)
	return func(b *testing.B) {
		var left atomic.Int64
		left.Store(int64(b.N))
		var all sync.WaitGroup
		for w := range n {
			v := pantry.Int(fmt.Sprintf("n%d-%d", n, w), 0).In(ns)
			all.Go(func() {
				for left.Add(-1) >= 0 {
					next[w]++
					if err := v.Set(next[w]); err != nil {
						b.Error(err)
						return
					}
				}
			})
		}
		all.Wait()
	}
}

func besideHistory(ns *pantry.Namespace) func(b *testing.B) {
	set := setting(ns)
	return func(b *testing.B) {
		var stop atomic.Bool
		var reader sync.WaitGroup
		reader.Go(func() {
			for !stop.Load() {
				if _, err := ns.History(0); err != nil {
					b.Error(err)
					return
				}
			}
		})
		set(b)
		stop.Store(true)
		reader.Wait()
	}
}

// waking sets a variable and waits until a Watch of it has the value.
func waking(ns *pantry.Namespace) (bench func(b *testing.B), stop func()) {
	litres := pantry.Int("litres", -1).In(ns)
	woken := make(chan int)
	ctx, cancel := context.WithCancel(context.Background())
	var watching sync.WaitGroup
	watching.Go(func() {
		for x := range litres.Watch(ctx) {
			select {
			case woken <- x:
			case <-ctx.Done():
			}
		}
	})
	n := <-woken
	return func(b *testing.B) {
			for range b.N {
				n++
				if err := litres.Set(n); err != nil {
					b.Fatal(err)
				}
				for <-woken != n {
				}
			}
		}, func() {
			cancel()
			watching.Wait()
		}
}

// handingOver is the floor of waking.
func handingOver(ns *pantry.Namespace) func(b *testing.B) {
	litres := pantry.Int("handed-over", -1).In(ns)
	n := 0
	return func(b *testing.B) {
		there, back := make(chan int), make(chan int)
		go func() {
			for x := range there {
				back <- x
			}
		}()
		defer close(there)
		for range b.N {
			n++
			if err := litres.Set(n); err != nil {
				b.Fatal(err)
			}
			there <- n
			<-back
		}
	}
}

// besideOthers compares the longest wait of a lone writer with its mean wait, while another process
// writes from 64 goroutines.
func besideOthers(s *suite) error {
	const what = "the longest of 200 waits of a lone writer beside 64 of another process"
	if !s.wants(what) {
		return nil
	}
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	self, err := os.Executable()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	others := exec.CommandContext(ctx, self, "crowd", dir)
	if err := others.Start(); err != nil {
		return err
	}
	defer func() {
		cancel()
		_ = others.Wait() // it was killed
	}()
	ns, err := pantry.Open(dir, "beside")
	if err != nil {
		return err
	}
	for ns.Version() < 1000 { // until the others are at work
		if err := ns.Refresh(); err != nil {
			return err
		}
	}
	mine := pantry.Int("mine", 0).In(ns)
	var longest, mean float64
	wait := func() (float64, error) {
		var waits []float64
		for range 200 {
			start := time.Now()
			if _, err := pantry.Add(mine, 1); err != nil {
				return 0, err
			}
			waits = append(waits, float64(time.Since(start).Nanoseconds()))
		}
		longest, mean = slices.Max(waits), 0
		for _, w := range waits {
			mean += w / float64(len(waits))
		}
		return mean, nil
	}
	return errors.Join(s.compare(row{what: what, floor: "the mean of the same waits", limit: 300, unit: nanoseconds}, func() (float64, error) { return longest, nil }, wait), ns.Close())
}

// crowd is that other process. It is killed.
func crowd(dir string) error {
	ns, err := pantry.Open(dir, "beside")
	if err != nil {
		return err
	}
	failed := make(chan error)
	for w := range 64 {
		v := pantry.Int(fmt.Sprint("n", w), 0).In(ns)
		go func() {
			for {
				if _, err := pantry.Add(v, 1); err != nil {
					failed <- err
				}
			}
		}()
	}
	return <-failed
}

type planting struct{ Crop string }
