package main

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/server/etcd"
	"github.com/small-pantry/pantry/value"
)

// table compares numbers of boards and servers with the file store.
func (b *bench) table() error {
	fmt.Print("\n## Commits a second, 64 writers\n\n| boards | files, one server | etcd, one server | etcd, three servers, each the home of a third | etcd, three servers, any of them |\n|---|---|---|---|---|\n")
	for _, n := range []int{1, 64, 1000} {
		files, err := store.OpenFiles(filepath.Join(b.dir, fmt.Sprint("files", n)), store.FileOptions{})
		if err != nil {
			return err
		}
		cells := []string{fmt.Sprint(n)}
		measure := func(stores []store.Store, homes bool) error {
			rate, err := b.rate(stores, n, homes)
			cells = append(cells, fmt.Sprintf("%.0f", rate))
			return err
		}
		err = measure([]store.Store{files}, true)
		if closed := files.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return err
		}
		for _, servers := range []struct {
			n     int
			homes bool
		}{{1, true}, {3, true}, {3, false}} {
			prefix := b.prefix()
			var stores []store.Store
			for range servers.n {
				s, err := b.open(prefix)
				if err != nil {
					return err
				}
				stores = append(stores, s)
			}
			err := measure(stores, servers.homes)
			for _, s := range stores {
				if closed := s.Close(); err == nil {
					err = closed
				}
			}
			if err != nil {
				return err
			}
		}
		fmt.Printf("| %s | %s | %s | %s | %s |\n", cells[0], cells[1], cells[2], cells[3], cells[4])
	}
	return nil
}

// rate measures the commits a second on n boards through stores: through the board's home only, or through
// any of them.
func (b *bench) rate(stores []store.Store, n int, homes bool) (float64, error) {
	all := make([][]*ledger.Ledger, len(stores))
	for i, s := range stores {
		boards, release, err := boardsOf(b.ctx, s, "board", n)
		if err != nil {
			return 0, err
		}
		defer release()
		all[i] = boards
	}
	var next atomic.Int64
	return perSecond(writers, func(int) error {
		k := int(next.Add(1))
		at := k % n
		by := k / n % len(stores)
		if homes {
			by = at % len(stores)
		}
		_, err := rules.Commit(all[by][at], addOne())
		return err
	})
}

// costs are those of what happens now and then.
func (b *bench) costs() error {
	fmt.Print("\n## What now and then costs\n\n| what | measured |\n|---|---|\n")
	prefix := b.prefix()
	return b.on(prefix, 1, func(boards []*ledger.Ledger) error { return b.costsOf(prefix, boards[0]) })
}

func (b *bench) costsOf(prefix string, l *ledger.Ledger) error {
	other, err := b.open(prefix)
	if err != nil {
		return err
	}
	err = b.costsSeen(l, other)
	return errors.Join(err, other.Close())
}

// costsSeen measures a board that another server sees, and has not read.
func (b *bench) costsSeen(l *ledger.Ledger, other *etcd.Store) error {
	n := 0
	put := func() error { // another value each time: storing the present value is no commit
		n++
		text := fmt.Sprintf("%d %s", n, strings.Repeat("x", 990))
		_, err := rules.Commit(l, rules.Call{Edits: []entry.Edit{{Name: fmt.Sprint("bed/", n%1000), Op: value.Op{Verb: value.Put, Operand: value.Text(text)}}}})
		return err
	}
	for range 1000 {
		if err := put(); err != nil {
			return err
		}
	}
	size := func() (int64, error) {
		boards, err := other.Boards(b.ctx, "", 1)
		if err != nil {
			return 0, err
		}
		return boards[0].Bytes, nil
	}
	var took []float64
	for checkpoints, before := 0, int64(0); checkpoints < 2; {
		for range 100 {
			begun := time.Now()
			if err := put(); err != nil {
				return err
			}
			took = append(took, float64(time.Since(begun).Microseconds())/1000)
		}
		now, err := size()
		if err != nil {
			return err
		}
		if now < before { // of what is kept: a checkpoint was made
			checkpoints++
		}
		if before = now; len(took) > 50_000 {
			return fmt.Errorf("no checkpoint was made in %d commits", len(took))
		}
	}
	slices.Sort(took)
	fmt.Printf("| a commit of 1 KB on a board of 1,000 such entries, %d of them, while its log grows and two checkpoints are made: p50, p99, and the longest | %.2f ms, %.2f ms, %.0f ms |\n",
		len(took), took[len(took)/2], took[len(took)*99/100], took[len(took)-1])
	begun := time.Now()
	_, release, err := boardsOf(b.ctx, other, "board", 1)
	if err != nil {
		return err
	}
	fmt.Printf("| the first call on another server, which reads this board | %.0f ms |\n", float64(time.Since(begun).Microseconds())/1000)
	release()
	begun = time.Now()
	if err := l.Forget("bed/1"); err != nil {
		return err
	}
	fmt.Printf("| a checkpoint of it, whole | %.0f ms |\n", float64(time.Since(begun).Microseconds())/1000)
	return nil
}
