package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

const prompt = 250 * time.Millisecond

// fill stores n ints in one commit.
func fill(ns *pantry.Namespace, n int) error {
	return ns.Commit(func(b *pantry.Batch) error {
		for i := range n {
			if err := b.Put(fmt.Sprintf("beds/%06d", i), value.Int(int64(i))); err != nil {
				return err
			}
		}
		return nil
	})
}

// watching measures the time from the call of a prompt Set to the body of a
// watcher of its key, in an empty namespace and among 10,000 entries.
func watching() ([]row, error) {
	const rounds = 2000
	wake := func(entries int) (d time.Duration, err error) {
		err = in(func(ns *pantry.Namespace) error {
			if err := fill(ns, entries); err != nil {
				return err
			}
			litres := pantry.Int("litres", -1).In(ns)
			woken := make(chan time.Time)
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			go func() {
				for range litres.Watch(ctx) {
					woken <- time.Now()
				}
			}()
			<-woken
			var delays []time.Duration
			for i := range rounds {
				start := time.Now()
				set := make(chan error, 1)
				go func() { set <- litres.Set(i) }()
				delays = append(delays, (<-woken).Sub(start))
				if err := <-set; err != nil {
					return err
				}
			}
			d = median(delays)
			return nil
		}, pantry.SyncWithin(prompt))
		return d, err
	}
	var alone, among []time.Duration
	for range 5 {
		one, err1 := wake(0)
		all, err2 := wake(10_000)
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		alone, among = append(alone, one*1000), append(among, all*1000)
	}
	p := pairOf(among, alone)
	return []row{
		{what: "from the call of a prompt Set to the body of a watcher, p50", got: perCall(p.base), note: "at most 100 µs", bad: p.base > 100_000*time.Microsecond},
		compared("the same, of one key among 10,000", "the only key", p, 1.5),
	}, nil
}

// limited compares a prompt Set under Limits, which cost a look at the whole
// size, with one without, both among 10,000 entries.
func limited() (rows []row, err error) {
	err = in(func(free *pantry.Namespace) error {
		return in(func(limited *pantry.Namespace) error {
			var failed error
			setting := func(ns *pantry.Namespace) func(int) {
				failed = errors.Join(failed, fill(ns, 10_000))
				hour := pantry.Int("reminder-hour", 18).In(ns)
				return func(n int) {
					for i := range n {
						failed = errors.Join(failed, hour.Set(10+i%10))
					}
				}
			}
			p := paired(41, 200, setting(limited), setting(free))
			rows = append(rows, compared("prompt Set under Limits, among 10,000 entries", "the same without Limits", p, 1.2))
			return failed
		}, pantry.SyncWithin(prompt), pantry.Limits(1<<16, 1<<24))
	}, pantry.SyncWithin(prompt))
	return rows, err
}

// besideHistory compares a Set while somebody reads the history over and over
// with one alone.
func besideHistory() (rows []row, err error) {
	err = in(func(ns *pantry.Namespace) error {
		hour := pantry.Int("reminder-hour", 18).In(ns)
		var failed error
		set := func(n int) {
			for i := range n {
				failed = errors.Join(failed, hour.Set(10+i%10))
			}
		}
		set(1500)
		p := paired(21, 100, func(n int) {
			var stop atomic.Bool
			var reader sync.WaitGroup
			var reading error
			reader.Go(func() {
				for !stop.Load() && reading == nil {
					_, reading = ns.History(0)
				}
			})
			set(n)
			stop.Store(true)
			reader.Wait()
			failed = errors.Join(failed, reading)
		}, set)
		rows = append(rows, compared("strict Set beside one who reads History over and over", "a strict Set alone", p, 2))
		return failed
	})
	return rows, err
}

// heap gives how much is in use, after a collection.
func heap() int64 {
	runtime.GC()
	runtime.GC() // what the first one finalised
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// fullHistory opens a file that is as large as a small one gets before it is
// compacted: one entry, and its past.
func fullHistory() ([]row, error) {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	ns, err := pantry.Open(dir, "full", pantry.SyncWithin(prompt))
	if err != nil {
		return nil, err
	}
	hour := pantry.Int("reminder-hour", 18).In(ns)
	var size int64
	for i := 0; size < 250<<10; i++ {
		if err := hour.Set(i); err != nil {
			return nil, err
		}
		info, err := os.Stat(ns.Path())
		if err != nil {
			return nil, err
		}
		size = info.Size()
	}
	if err := ns.Close(); err != nil {
		return nil, err
	}
	var failed error
	p50 := paired(15, 5, func(n int) {
		for range n {
			ns, err := pantry.Open(dir, "full")
			if err == nil {
				err = ns.Close()
			}
			failed = errors.Join(failed, err)
		}
	}, func(int) {}).got
	before := heap()
	ns, err = pantry.Open(dir, "full")
	if failed = errors.Join(failed, err); failed != nil {
		return nil, failed
	}
	kept := heap() - before
	return []row{
		{what: fmt.Sprintf("Open and Close of one entry with a past of %d KiB", size>>10), got: perCall(p50), note: "under 2 ms", bad: p50 > 2000*time.Millisecond},
		{what: "memory held by it while open", got: fmt.Sprintf("%.1f KB", float64(kept)/1000), note: "under 40 KB", bad: kept > 40_000},
	}, ns.Close()
}

// held measures the memory that an entry takes, against a plain map's.
func held() ([]row, error) {
	const n = 100_000
	before := heap()
	plain := map[string]int{}
	for i := range n {
		plain[fmt.Sprintf("beds/%06d", i)] = i
	}
	base := heap() - before
	runtime.KeepAlive(plain)
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	ns, err := pantry.Open(dir, "held")
	if err == nil {
		err = errors.Join(fill(ns, n), ns.Close())
	}
	if err != nil {
		return nil, err
	}
	plain = nil
	before = heap()
	ns, err = pantry.Open(dir, "held")
	if err != nil {
		return nil, err
	}
	got := heap() - before
	each := func(bytes int64) string { return fmt.Sprintf("%d bytes", bytes/n) }
	return []row{{
		what: "memory of an entry, of 100,000 ints", floor: "of a map[string]int",
		got: each(got), base: each(base), ratio: float64(got) / float64(base), limit: 4,
	}}, ns.Close()
}

type planting struct{ Crop string }

// deleted adds 100,000 records and deletes them again, and looks at what stays.
func deleted() (rows []row, err error) {
	err = in(func(ns *pantry.Namespace) error {
		all := pantry.RecordsOf[planting]("plantings").In(ns)
		before := heap()
		for range 100 {
			ids := make([]string, 1000)
			for i := range ids {
				if ids[i], err = all.Add(planting{"beans"}); err != nil {
					return err
				}
			}
			if err := all.Delete(ids...); err != nil {
				return err
			}
		}
		info, err := os.Stat(ns.Path())
		if err != nil {
			return err
		}
		grown := heap() - before
		rows = append(rows,
			row{what: "file after 100,000 records were added and deleted", got: fmt.Sprintf("%.2f MiB", float64(info.Size())/(1<<20)), note: "under 2 MiB", bad: info.Size() > 2<<20},
			row{what: "memory that stays of them", got: fmt.Sprintf("%.2f MiB", float64(grown)/(1<<20)), note: "under 4 MiB", bad: grown > 4<<20})
		return nil
	}, pantry.SyncWithin(prompt))
	return rows, err
}
