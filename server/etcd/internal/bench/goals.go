package main

import (
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
)

func (b *bench) one() error {
	return b.on(b.prefix(), 1, func(boards []*ledger.Ledger) error {
		line := string(make([]byte, 200))
		return b.against("commits on one board through its home, 64 writers", "etcd: a put of 200 bytes each, 64 clients", 1.5, commits(boards), func() (float64, error) {
			return perSecond(writers, func(i int) error {
				_, err := b.kv.Put(b.ctx, fmt.Sprintf("floor/%d/%d", i, b.n.Add(1)), line)
				return err
			})
		})
	})
}

func (b *bench) many() error {
	return b.on(b.prefix(), writers, func(boards []*ledger.Ledger) error {
		line := string(make([]byte, 200))
		revs := make([]int64, writers)
		return b.against("commits on 64 boards, one writer each", "etcd: a transaction of the same two keys each, 64 clients", 1, commits(boards), func() (float64, error) {
			return perSecond(writers, func(i int) error {
				head := fmt.Sprintf("floor/h/%d", i)
				resp, err := b.kv.Txn(b.ctx).If(clientv3.Compare(clientv3.ModRevision(head), "=", revs[i])).
					Then(clientv3.OpPut(head, line), clientv3.OpPut(fmt.Sprintf("floor/l/%d/%d", i, b.n.Add(1)), line)).Commit()
				if err == nil && !resp.Succeeded {
					err = fmt.Errorf("the floor met somebody else")
				}
				if err == nil {
					revs[i] = resp.Header.Revision
				}
				return err
			})
		})
	})
}

// three compares three servers that have boards of their own with one.
func (b *bench) three() error {
	const servers = 3
	prefix := b.prefix()
	var all [servers][]*ledger.Ledger
	for i := range all {
		s, err := b.open(prefix)
		if err != nil {
			return err
		}
		defer s.Close()
		boards, release, err := boardsOf(b.ctx, s, fmt.Sprintf("server-%d", i), writers)
		if err != nil {
			return err
		}
		defer release()
		all[i] = boards
	}
	return b.against("commits of three servers with 64 boards and 64 writers each", "one of them alone", 1, func() (float64, error) {
		return perSecond(servers*writers, func(i int) error {
			_, err := rules.Commit(all[i%servers][i/servers], addOne())
			return err
		})
	}, commits(all[0]))
}

func (b *bench) fenced() error {
	return b.on(b.prefix(), 1, func(boards []*ledger.Ledger) error {
		return b.against("reads of one board that see all that was answered anywhere, 1,000 readers", "commits on it, 1,000 writers", 5, func() (float64, error) {
			return perSecond(crowd, func(int) error { return boards[0].Current(b.ctx) })
		}, func() (float64, error) {
			return perSecond(crowd, func(int) error {
				_, err := rules.Commit(boards[0], addOne())
				return err
			})
		})
	})
}

// woken measures from the answer of a commit on one server to the waking of who watches on
// another.
func (b *bench) woken() error {
	prefix := b.prefix()
	return b.on(prefix, 1, func(here []*ledger.Ledger) error {
		return b.on(prefix, 1, func(there []*ledger.Ledger) error { return b.wakes(here[0], there[0]) })
	})
}

func (b *bench) wakes(here, there *ledger.Ledger) error {
	w := there.Watch(nil, nil)
	defer w.Close()
	var late []float64
	for range 1000 {
		if _, err := rules.Commit(here, addOne()); err != nil {
			return err
		}
		answered := time.Now()
		for shown(there) < here.Version() {
			w.Wait(b.ctx, nil)
		}
		late = append(late, float64(time.Since(answered).Microseconds())/1000)
		time.Sleep(time.Millisecond)
	}
	slices.Sort(late)
	p99 := late[len(late)*99/100]
	b.row("from the answer on one server to the waking of who watches on another, p99 of 1,000", "", fmt.Sprintf("%.1f ms (p50 %.2f ms)", p99, late[len(late)/2]), "", "", "within 10 ms", p99 <= 10)
	return nil
}

// failover kills the leader while one number is added to, five times.
func (b *bench) failover() error {
	return b.on(b.prefix(), 1, func(boards []*ledger.Ledger) error {
		stop := make(chan struct{})
		var all sync.WaitGroup
		var done, failed atomic.Int64
		var mu sync.Mutex
		last, longest := time.Now(), time.Duration(0)
		for range 8 {
			all.Go(func() {
				for {
					select {
					case <-stop:
						return
					case <-time.After(2 * time.Millisecond):
					}
					if _, err := rules.Commit(boards[0], addOne()); err != nil {
						failed.Add(1)
						continue
					}
					done.Add(1)
					mu.Lock()
					longest, last = max(longest, time.Since(last)), time.Now()
					mu.Unlock()
				}
			})
		}
		var gaps []float64
		for range 5 {
			time.Sleep(time.Second)
			leader, err := b.c.Leader(b.ctx)
			if err != nil {
				return err
			}
			mu.Lock()
			longest = 0
			mu.Unlock()
			b.c.KillNode(leader)
			time.Sleep(5 * time.Second)
			mu.Lock()
			gaps = append(gaps, longest.Seconds())
			mu.Unlock()
			if err := b.c.StartNode(leader); err != nil {
				return err
			}
			time.Sleep(2 * time.Second)
		}
		close(stop)
		all.Wait()
		if err := boards[0].Current(b.ctx); err != nil {
			return err
		}
		n, _ := boards[0].Node("tank/litres").Record().Value.AsInt()
		slices.Sort(gaps)
		b.row("longest time without a commit after the leader was killed, median of five", "", fmt.Sprintf("%.2f s (%.2f to %.2f)", gaps[2], gaps[0], gaps[4]), "", "", "at most 3 s", gaps[2] <= 3)
		wrong := n < done.Load() || n > done.Load()+failed.Load()
		b.row("additions lost or counted twice, meanwhile", "", fmt.Sprintf("0 of %d (%d were not answered)", done.Load(), failed.Load()), "", "", "0", !wrong)
		return nil
	})
}
