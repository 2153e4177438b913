package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

// lastLine gives the newest line of a namespace's file.
func lastLine(ns *pantry.Namespace) ([]byte, error) {
	file, err := os.ReadFile(ns.Path())
	if err != nil {
		return nil, err
	}
	end := len(file) - 1
	for start := end - 1; start >= 0; start-- {
		if file[start] == '\n' {
			return file[start+1:], nil
		}
	}
	return nil, errors.New("the file has no line")
}

// writing compares a Set with writing the same bytes to a file of its own, the
// two in turn, so that the disk's moods meet both.
func writing() (rows []row, err error) {
	err = in(func(ns *pantry.Namespace) error {
		hour := pantry.Int("reminder-hour", 18).In(ns)
		if err := hour.Set(1); err != nil {
			return err
		}
		line, err := lastLine(ns)
		if err != nil {
			return err
		}
		floor, err := os.Create(filepath.Join(filepath.Dir(ns.Path()), "floor"))
		if err != nil {
			return err
		}
		defer floor.Close()
		const n = 4000
		var sets, floors []time.Duration
		// Which comes first changes too: the second finds the disk busy.
		for i := range n {
			for _, set := range []bool{i%2 == 0, i%2 != 0} {
				start := time.Now()
				if set {
					if err := hour.Set(10 + i%10); err != nil {
						return err
					}
					sets = append(sets, time.Since(start)*1000)
					continue
				}
				if _, err := floor.Write(line); err != nil {
					return err
				}
				if err := datasync(floor); err != nil {
					return err
				}
				floors = append(floors, time.Since(start)*1000)
			}
		}
		p := pairOf(sets, floors)
		p.ratio = float64(p.got) / float64(p.base) // of the p50, not the p50 of ratios of single calls
		rows = append(rows, compared("strict Set, p50 of 4,000", "append and fdatasync of a line of the same length, in turn", p, 1.15))
		return nil
	})
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	ns, err := pantry.Open(dir, "prompt", pantry.SyncWithin(250*time.Millisecond))
	if err != nil {
		return nil, err
	}
	hour := pantry.Int("reminder-hour", 18).In(ns)
	if err := hour.Set(1); err != nil {
		return nil, err
	}
	line, err := lastLine(ns)
	if err != nil {
		return nil, err
	}
	floor, err := os.Create(filepath.Join(dir, "floor"))
	if err != nil {
		return nil, err
	}
	defer floor.Close()
	var failed error
	p := paired(41, 200, func(n int) {
		for i := range n {
			failed = errors.Join(failed, hour.Set(10+i%10))
		}
	}, func(n int) {
		for range n {
			_, err := floor.Write(line)
			failed = errors.Join(failed, err)
		}
	})
	rows = append(rows, compared("prompt Set", "write of a line of the same length", p, 7))
	return rows, errors.Join(failed, ns.Close())
}

// together counts the commits of 64 writers against those of one, in turn.
func together() (rows []row, err error) {
	err = in(func(ns *pantry.Namespace) error {
		count := func(writers int) (float64, error) {
			var stop atomic.Bool
			var all sync.WaitGroup
			done, failed := make([]int, writers), make([]error, writers)
			start := time.Now()
			time.AfterFunc(300*time.Millisecond, func() { stop.Store(true) })
			for w := range writers {
				all.Go(func() {
					v := pantry.Int(fmt.Sprint("n", w), 0).In(ns)
					n := 0
					for start := v.Get(); !stop.Load() && failed[w] == nil; n++ {
						failed[w] = v.Set(start + n + 1)
					}
					done[w] = n
				})
			}
			all.Wait()
			sum := 0
			for _, n := range done {
				sum += n
			}
			return float64(sum) / time.Since(start).Seconds(), errors.Join(failed...)
		}
		var ones, many, ratios []float64
		for range 21 {
			one, err1 := count(1)
			all, err2 := count(64)
			if err := errors.Join(err1, err2); err != nil {
				return err
			}
			ones, many, ratios = append(ones, one), append(many, all), append(ratios, all/one)
		}
		rows = append(rows, row{
			what: "commits of 64 writers", floor: "commits of one writer",
			got: fmt.Sprintf("%.0f/s", median(many)), base: fmt.Sprintf("%.0f/s", median(ones)), ratio: median(ratios), limit: 15, atLeast: true,
		})
		return nil
	})
	return rows, err
}

// opening compares Open with encoding/json on the same names and values.
func opening() (rows []row, err error) {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	for _, n := range []int{100_000, 1000} {
		name := fmt.Sprint("n", n)
		plain := map[string]int{}
		ns, err := pantry.Open(dir, name)
		if err != nil {
			return nil, err
		}
		if err := ns.Commit(func(b *pantry.Batch) error {
			for i := range n {
				entry := fmt.Sprintf("beds/%06d", i)
				plain[entry] = i * 37
				if err := b.Put(entry, value.Int(int64(i)*37)); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return nil, err
		}
		if err := ns.Close(); err != nil {
			return nil, err
		}
		data, err := json.Marshal(plain)
		if err != nil {
			return nil, err
		}
		path := filepath.Join(dir, name+".json")
		if err := os.WriteFile(path, data, 0o600); err != nil {
			return nil, err
		}
		var failed error
		p := paired(15, 3, func(times int) {
			for range times {
				ns, err := pantry.Open(dir, name)
				if err == nil {
					err = ns.Close()
				}
				failed = errors.Join(failed, err)
			}
		}, func(times int) {
			for range times {
				data, err := os.ReadFile(path)
				var m map[string]int
				failed = errors.Join(failed, err, json.Unmarshal(data, &m))
			}
		})
		if failed != nil {
			return nil, failed
		}
		if n == 1000 {
			rows = append(rows, row{what: "Open and Close of 1,000 ints", got: perCall(p.got), note: "under 1 ms", bad: p.got > 1000*time.Millisecond})
		} else {
			rows = append(rows, compared("Open and Close of 100,000 ints", "encoding/json of the same names and values into a map", p, 0.6))
		}
	}
	return rows, nil
}

// growing looks at the size of a file while it is written to for long.
func growing() (rows []row, err error) {
	err = in(func(ns *pantry.Namespace) error {
		const most = 6
		var worst float64
		note := pantry.Text("note", "").In(ns)
		text := make([]byte, 4000)
		for i := range text {
			text[i] = 'a' + byte(i%26)
		}
		over := int64(0)
		for i := range 3000 {
			if err := note.Set(fmt.Sprint(i, string(text))); err != nil {
				return err
			}
			info, err := os.Stat(ns.Path())
			if err != nil {
				return err
			}
			// It must keep the entry, and of its newest commits 256 KiB.
			keep := float64(len(text)) + 256<<10
			worst = max(worst, float64(info.Size())/keep)
			over = max(over, info.Size())
		}
		rows = append(rows, row{
			what: "largest size of a file in 3,000 commits of 4 KB", floor: "what it must keep",
			got: fmt.Sprintf("%.2f MiB", float64(over)/(1<<20)), base: "0.25 MiB", ratio: worst, limit: most,
		})
		return nil
	})
	return rows, err
}

// besideOthers measures how long a lone writer waits while another process
// writes with 64 goroutines as fast as it can.
func besideOthers() ([]row, error) {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	crowd := exec.CommandContext(ctx, self, "crowd", dir)
	crowd.Stderr = os.Stderr
	if err := crowd.Start(); err != nil {
		return nil, err
	}
	defer func() { _ = crowd.Wait() }() // it is killed, and says so
	ns, err := pantry.Open(dir, "beside")
	if err != nil {
		return nil, err
	}
	mine := pantry.Int("mine", 0).In(ns)
	for ns.Version() < 1000 { // until the crowd is at work
		if err := ns.Refresh(); err != nil {
			return nil, err
		}
	}
	var waits []time.Duration
	for range 200 {
		start := time.Now()
		if _, err := pantry.Add(mine, 1); err != nil {
			return nil, err
		}
		waits = append(waits, time.Since(start))
	}
	before := ns.Version()
	p50 := median(waits)
	longest := waits[len(waits)-1]
	cancel()
	return []row{{
		what: "a lone writer beside 64 of another process, longest of 200 waits",
		got:  fmt.Sprintf("%.1f ms (p50 %.1f ms, %d commits in all)", longest.Seconds()*1000, p50.Seconds()*1000, before),
		note: "at most 250 ms", bad: longest > 250*time.Millisecond,
	}}, ns.Close()
}

// crowd is that other process. It is ended from outside.
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
