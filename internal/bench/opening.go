package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// reopening opens and closes a namespace.
func reopening(dir, name string) func(b *testing.B) {
	return func(b *testing.B) {
		for range b.N {
			ns, err := pantry.Open(dir, name)
			if err == nil {
				err = ns.Close()
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	}
}

func opening(s *suite) error {
	dir, err := os.MkdirTemp("", "pantry-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for n, limit := range map[int]float64{100_000: 0.8, 1000: 1} {
		name := fmt.Sprint("n", n)
		ns, err := pantry.Open(dir, name)
		if err == nil {
			err = errors.Join(fill(ns, n), ns.Close())
		}
		if err != nil {
			return err
		}
		plain := map[string]int{}
		for i := range n {
			plain[fmt.Sprintf("beds/%06d", i)] = i * 37
		}
		data, err := json.Marshal(plain)
		if err != nil {
			return err
		}
		path := filepath.Join(dir, name+".json")
		if err := os.WriteFile(path, data, 0o600); err != nil {
			return err
		}
		decode := func(b *testing.B) {
			for range b.N {
				data, err := os.ReadFile(path)
				var m map[string]int
				if err = errors.Join(err, json.Unmarshal(data, &m)); err != nil {
					b.Fatal(err)
				}
			}
		}
		if err := s.time(row{what: fmt.Sprintf("Open and Close of %d ints", n), floor: "encoding/json of the same names and values into a map", limit: limit}, reopening(dir, name), decode); err != nil {
			return err
		}
	}
	if err := withPast(s, dir); err != nil {
		return err
	}
	if err := longPast(s, dir); err != nil {
		return err
	}
	return memory(s, dir)
}

// withPast opens a file that is as large as it gets before it is compacted: one entry and its past.
func withPast(s *suite, dir string) error {
	ns, err := pantry.Open(dir, "past", pantry.SyncWithin(prompt))
	if err != nil {
		return err
	}
	hour := pantry.Int("reminder-hour", 18).In(ns)
	var data []byte
	for i := 0; len(data) < 250<<10; i++ {
		if err := hour.Set(i); err != nil {
			return err
		}
		if i%100 == 0 {
			if data, err = os.ReadFile(ns.Path()); err != nil {
				return err
			}
		}
	}
	path := ns.Path()
	if err := ns.Close(); err != nil {
		return err
	}
	table := crc32.MakeTable(crc32.Castagnoli)
	return s.time(row{what: "Open and Close of one entry with a past of 250 KiB", floor: "newline search and CRC over the same bytes", limit: 14}, reopening(dir, "past"), func(b *testing.B) {
		for range b.N {
			data, err := os.ReadFile(path)
			if err != nil {
				b.Fatal(err)
			}
			for line := range bytes.Lines(data) {
				runtime.KeepAlive(crc32.Checksum(line, table))
			}
		}
	})
}

// heap returns how many bytes are in use after a collection.
func heap() float64 {
	runtime.GC()
	runtime.GC() // finalisers of the first one
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc)
}

// held returns how much more the heap holds after make. keep is alive until then.
func held(make func() (keep any, close func() error, err error)) func() (float64, error) {
	return func() (float64, error) {
		before := heap()
		keep, close, err := make()
		if err != nil {
			return 0, err
		}
		got := heap() - before
		runtime.KeepAlive(keep)
		return max(got, 1), close()
	}
}

func memory(s *suite, dir string) error {
	opened := func(name string) func() (float64, error) {
		return held(func() (any, func() error, error) {
			ns, err := pantry.Open(dir, name)
			if err != nil {
				return nil, nil, err
			}
			return ns, ns.Close, nil
		})
	}
	ns, err := pantry.Open(dir, "fresh")
	if err == nil {
		err = errors.Join(pantry.Int("reminder-hour", 18).In(ns).Set(7), ns.Close())
	}
	return errors.Join(err,
		s.compare(row{what: "memory of 100,000 ints", floor: "of a map[string]int", limit: 4, unit: kilobytes}, opened("n100000"), held(func() (any, func() error, error) {
			plain := map[string]int{}
			for i := range 100_000 {
				plain[fmt.Sprintf("beds/%06d", i)] = i
			}
			return plain, func() error { return nil }, nil
		})),
		s.compare(row{what: "memory of one entry with a past of 250 KiB", floor: "of one entry without a past", limit: 2, unit: kilobytes}, opened("past"), opened("fresh")),
	)
}

// growing compares the sizes of files that are written to for long with what they must keep.
func growing(s *suite) error {
	largest := func(f func(ns *pantry.Namespace, look func() error) error) func() (float64, error) {
		return func() (float64, error) {
			most := int64(0)
			err := in(func(ns *pantry.Namespace) error {
				return f(ns, func() error {
					info, err := os.Stat(ns.Path())
					if err == nil {
						most = max(most, info.Size())
					}
					return err
				})
			}, pantry.SyncWithin(prompt))
			return float64(most), err
		}
	}
	rounds := s.rounds
	s.rounds = 1 // the sizes are the same each time
	defer func() { s.rounds = rounds }()
	return errors.Join(
		s.compare(row{what: "largest size of a file in 3,000 commits of 4 KB", floor: "what it must keep: the entry and 256 KiB of the past", limit: 6, unit: kilobytes},
			largest(func(ns *pantry.Namespace, look func() error) error {
				note, text := pantry.Text("note", "").In(ns), string(bytes.Repeat([]byte("tank "), 800))
				for i := range 3000 {
					if err := errors.Join(note.Set(fmt.Sprint(i, text)), look()); err != nil {
						return err
					}
				}
				return nil
			}), func() (float64, error) { return 4000 + 256<<10, nil }),
		s.compare(row{what: "size of a file after 100,000 records were added and removed", floor: "what it must keep: 10,000 removed names and 256 KiB of the past", limit: 4, unit: kilobytes},
			largest(func(ns *pantry.Namespace, look func() error) error {
				all := pantry.RecordsOf[planting]("plantings").In(ns)
				for range 100 {
					ids := make([]string, 1000)
					for i := range ids {
						var err error
						if ids[i], err = all.Add(planting{"beans"}); err != nil {
							return err
						}
					}
					if err := all.Drop(ids...); err != nil {
						return err
					}
				}
				return look()
			}), func() (float64, error) { return 10_000*20 + 256<<10, nil }),
	)
}

// fullPast returns a ledger with a file of a size that is all past.
func fullPast(dir, name string, size int) (*ledger.Ledger, error) {
	l, err := ledger.Open(dir, name, ledger.Options{Small: 1 << 40, Kept: 1 << 40, KeptBytes: 1 << 40})
	for n := 0; err == nil; n++ {
		_, err = l.CommitWithin(prompt, entry.Author{By: "bench"}, ledger.JudgeFunc(func(tx *ledger.Tx) error {
			for i := range 100 {
				v, err := ledger.Encode(value.Int(int64(n)))
				if err != nil {
					return err
				}
				tx.Put(fmt.Sprintf("beds/%03d", (n+i)%300), v)
			}
			return nil
		}))
		if n%100 == 0 {
			if info, bad := os.Stat(l.Path()); bad != nil || info.Size() > int64(size) {
				return l, errors.Join(err, bad)
			}
		}
	}
	return l, err
}

// longPast looks back, and erases, in files of different sizes that are all past: no compaction has
// shortened them.
func longPast(s *suite, dir string) error {
	const history, forget = "History(5) of a file of 37 MiB", "Forget of one name in a file of 37 MiB"
	if !s.wants(history) && !s.wants(forget) {
		return nil
	}
	small, err := fullPast(dir, "past-1", 1<<20)
	if err != nil {
		return err
	}
	defer small.Close()
	large, err := fullPast(dir, "past-37", 37<<20)
	if err != nil {
		return err
	}
	defer large.Close()
	looking := func(l *ledger.Ledger) func(b *testing.B) {
		return func(b *testing.B) {
			for range b.N {
				if _, err := l.History(5); err != nil {
					b.Fatal(err)
				}
			}
		}
	}
	if err := s.time(row{what: history, floor: "History(5) of a file of 1 MiB", limit: 3}, looking(large), looking(small)); err != nil {
		return err
	}
	data, err := os.ReadFile(large.Path())
	if err == nil { // an open file is not read again
		err = os.WriteFile(filepath.Join(dir, "past-copy.jsonl"), data, 0o600)
	}
	if err != nil {
		return err
	}
	opening := func(b *testing.B) {
		for range b.N {
			l, err := ledger.Open(dir, "past-copy", ledger.Options{ReadOnly: true, Small: 1 << 40})
			if err == nil {
				err = l.Close()
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	}
	n := 0
	return s.time(row{what: forget, floor: "Open of the same file", limit: 2.5}, func(b *testing.B) {
		for range b.N {
			n++
			if err := large.Forget(fmt.Sprintf("beds/%03d", n%300)); err != nil {
				b.Fatal(err)
			}
		}
	}, opening)
}
