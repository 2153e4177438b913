// Command bench measures what docs/benchmarks-etcd.md claims of boards in etcd, each figure
// beside a floor that is measured in the same run, and prints that page. It exits with 1 when
// one is over its limit.
package main

import (
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
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/server/etcd"
	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
	"github.com/small-pantry/pantry/value"
)

const (
	writers = 64
	crowd   = 1000 // readers and writers, as many phones
	round   = 1500 * time.Millisecond
	rounds  = 3
)

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// A bench has three nodes.
type bench struct {
	ctx context.Context
	dir string
	c   *cluster.Cluster
	kv  *clientv3.Client // for the floors
	bad bool
	n   atomic.Int64 // of prefixes and keys
}

func run(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "smallpantry-etcd-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	command := filepath.Join(dir, "smallpantry-etcd")
	if out, err := exec.Command("go", "build", "-o", command, "./cmd/smallpantry-etcd").CombinedOutput(); err != nil {
		return fmt.Errorf("build: %w: %s", err, out)
	}
	c, err := cluster.Start(ctx, cluster.Options{Dir: dir, Nodes: 3, Command: func(args ...string) *exec.Cmd { return exec.Command(command, args...) }})
	if err != nil {
		return err
	}
	defer c.Close()
	kv, err := clientv3.New(clientv3.Config{Endpoints: node.Endpoints(c.Members), Logger: zap.NewNop()})
	if err != nil {
		return err
	}
	defer kv.Close()
	b := &bench{ctx: ctx, dir: dir, c: c, kv: kv}
	fmt.Printf(`# Boards in etcd: benchmarks

Three nodes of etcd and the servers share one noisy machine, so that the times are its own:
the ratios to what is measured in the same run are the claim. Each figure is the median of %d
rounds of %.1f s. Commits are additions to one number, each answered when most nodes have it on
their disks. Made by `+"`make bench-etcd`"+` with %s on %s/%s, %d processors.

| what | floor | measured | floor | ratio | limit |
|---|---|---|---|---|---|
`, rounds, round.Seconds(), runtime.Version(), runtime.GOOS, runtime.GOARCH, runtime.NumCPU())
	for _, f := range []func() error{b.one, b.many, b.woken, b.fenced, b.failover} {
		if err := f(); err != nil {
			return err
		}
	}
	if err := b.table(); err != nil {
		return err
	}
	if err := b.costs(); err != nil {
		return err
	}
	if b.bad {
		return fmt.Errorf("a figure is over its limit")
	}
	return nil
}

func (b *bench) row(what, floor, got, base, ratio, limit string, good bool) {
	if !good {
		ratio += " **over**"
		b.bad = true
	}
	fmt.Printf("| %s | %s | %s | %s | %s | %s |\n", what, floor, got, base, ratio, limit)
}

func (b *bench) prefix() string { return fmt.Sprintf("bench/%d/", b.n.Add(1)) }

func (b *bench) open(prefix string) (*etcd.Store, error) {
	return etcd.Open(b.ctx, etcd.Options{Endpoints: node.Endpoints(b.c.Members), Prefix: prefix})
}

// perSecond has workers do something over and over, and says how often it was done.
func perSecond(workers int, f func(worker int) error) (float64, error) {
	var n atomic.Int64
	var all sync.WaitGroup
	var failed atomic.Pointer[error]
	begun := time.Now()
	for i := range workers {
		all.Go(func() {
			for time.Since(begun) < round && failed.Load() == nil {
				if err := f(i); err != nil {
					failed.Store(&err)
					return
				}
				n.Add(1)
			}
		})
	}
	all.Wait()
	if err := failed.Load(); err != nil {
		return 0, *err
	}
	return float64(n.Load()) / time.Since(begun).Seconds(), nil
}

// against compares two in turn.
func (b *bench) against(what, floor string, limit float64, measured, base func() (float64, error)) error {
	var gots, bases, ratios []float64
	for range rounds {
		f, err := base()
		if err != nil {
			return err
		}
		g, err := measured()
		if err != nil {
			return err
		}
		gots, bases, ratios = append(gots, g), append(bases, f), append(ratios, g/f)
	}
	r := median(ratios)
	b.row(what, floor, fmt.Sprintf("%.0f/s", median(gots)), fmt.Sprintf("%.0f/s", median(bases)), fmt.Sprintf("%.2f", r), fmt.Sprintf("at least %.1f", limit), r >= limit)
	return nil
}

func median(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

func addOne() rules.Call {
	return rules.Call{Who: entry.Author{By: "tankwatch"}, Edits: []entry.Edit{{Name: "tank/litres", Op: value.Op{Verb: value.Add, Operand: value.Int(1)}}}}
}

// boardsOf gives boards, which are released together.
func boardsOf(ctx context.Context, s store.Store, n int) (all []*ledger.Ledger, release func(), err error) {
	all = make([]*ledger.Ledger, n)
	free, errs := make([]func(), n), make([]error, n)
	var next atomic.Int64
	var makers sync.WaitGroup
	for range min(n, 32) {
		makers.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				all[i], free[i], errs[i] = s.Board(ctx, fmt.Sprintf("board-%d", i), true)
			}
		})
	}
	makers.Wait()
	release = func() {
		for _, f := range free {
			if f != nil {
				f()
			}
		}
	}
	if err := errors.Join(errs...); err != nil {
		release()
		return nil, nil, err
	}
	return all, release, nil
}

// commits says how many are made on boards, by writers who each have one.
func commits(boards []*ledger.Ledger) func() (float64, error) {
	return func() (float64, error) {
		return perSecond(writers, func(i int) error {
			_, err := rules.Commit(boards[i%len(boards)], addOne())
			return err
		})
	}
}

func shown(l *ledger.Ledger) int64 {
	snap := l.Snapshot()
	defer snap.Release()
	return snap.Version
}

func (b *bench) one() error {
	s, err := b.open(b.prefix())
	if err != nil {
		return err
	}
	defer s.Close()
	boards, release, err := boardsOf(b.ctx, s, 1)
	if err != nil {
		return err
	}
	defer release()
	line := string(make([]byte, 200))
	return b.against("commits on one board through its home, 64 writers", "etcd: a put of 200 bytes each, 64 clients", 1.5, commits(boards), func() (float64, error) {
		return perSecond(writers, func(i int) error {
			_, err := b.kv.Put(b.ctx, fmt.Sprintf("floor/%d/%d", i, b.n.Add(1)), line)
			return err
		})
	})
}

func (b *bench) many() error {
	s, err := b.open(b.prefix())
	if err != nil {
		return err
	}
	defer s.Close()
	boards, release, err := boardsOf(b.ctx, s, writers)
	if err != nil {
		return err
	}
	defer release()
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
}

func (b *bench) fenced() error {
	s, err := b.open(b.prefix())
	if err != nil {
		return err
	}
	defer s.Close()
	boards, release, err := boardsOf(b.ctx, s, 1)
	if err != nil {
		return err
	}
	defer release()
	return b.against("reads of one board that see all that was answered anywhere, 1,000 readers", "commits on it, 1,000 writers", 5, func() (float64, error) {
		return perSecond(crowd, func(int) error { return boards[0].Current(b.ctx) })
	}, func() (float64, error) {
		return perSecond(crowd, func(int) error {
			_, err := rules.Commit(boards[0], addOne())
			return err
		})
	})
}

// woken measures from the answer of a commit on one server to the waking of who watches on
// another.
func (b *bench) woken() error {
	prefix := b.prefix()
	here, err := b.open(prefix)
	if err != nil {
		return err
	}
	defer here.Close()
	there, err := b.open(prefix)
	if err != nil {
		return err
	}
	defer there.Close()
	a, releaseA, err := boardsOf(b.ctx, here, 1)
	if err != nil {
		return err
	}
	defer releaseA()
	z, releaseZ, err := boardsOf(b.ctx, there, 1)
	if err != nil {
		return err
	}
	defer releaseZ()
	w := z[0].Watch(nil, nil)
	defer w.Close()
	var late []float64
	for range 1000 {
		if _, err := rules.Commit(a[0], addOne()); err != nil {
			return err
		}
		answered := time.Now()
		for shown(z[0]) < a[0].Version() {
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

// failover kills the leader while one number is added to, three times.
func (b *bench) failover() error {
	s, err := b.open(b.prefix())
	if err != nil {
		return err
	}
	defer s.Close()
	boards, release, err := boardsOf(b.ctx, s, 1)
	if err != nil {
		return err
	}
	defer release()
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
	for range 3 {
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
	b.row("longest time without a commit after the leader was killed, of three", "", fmt.Sprintf("%.2f s (the others %.2f and %.2f)", gaps[2], gaps[1], gaps[0]), "", "", "at most 3 s", gaps[2] <= 3)
	wrong := n < done.Load() || n > done.Load()+failed.Load()
	b.row("additions lost or counted twice, meanwhile", "", fmt.Sprintf("0 of %d (%d were not answered)", done.Load(), failed.Load()), "", "", "0", !wrong)
	return nil
}

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
			all := make([][]*ledger.Ledger, len(stores))
			for i, s := range stores {
				boards, release, err := boardsOf(b.ctx, s, n)
				if err != nil {
					return err
				}
				defer release()
				all[i] = boards
			}
			var next atomic.Int64
			rate, err := perSecond(writers, func(int) error {
				k := int(next.Add(1))
				at := k % n
				by := k / n % len(stores)
				if homes {
					by = at % len(stores)
				}
				_, err := rules.Commit(all[by][at], addOne())
				return err
			})
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

// costs are those of what happens now and then.
func (b *bench) costs() error {
	fmt.Print("\n## What now and then costs\n\n| what | measured |\n|---|---|\n")
	prefix := b.prefix()
	s, err := b.open(prefix)
	if err != nil {
		return err
	}
	defer s.Close()
	boards, release, err := boardsOf(b.ctx, s, 1)
	if err != nil {
		return err
	}
	defer release()
	l := boards[0]
	put := func(i, size int) error {
		_, err := rules.Commit(l, rules.Call{Edits: []entry.Edit{{Name: fmt.Sprint("bed/", i), Op: value.Op{Verb: value.Put, Operand: value.Text(string(make([]byte, size)))}}}})
		return err
	}
	for i := range 1000 {
		if err := put(i, 1000); err != nil {
			return err
		}
	}
	var took []float64
	for i := range 2000 { // over several checkpoints
		begun := time.Now()
		if err := put(i%1000, 1000); err != nil {
			return err
		}
		took = append(took, float64(time.Since(begun).Microseconds())/1000)
	}
	slices.Sort(took)
	fmt.Printf("| a commit of 1 KB on a board of 1,000 such entries, while its log grows: p50, p99, and the longest, in which a checkpoint was made | %.2f ms, %.2f ms, %.0f ms |\n", took[1000], took[1980], took[1999])
	other, err := b.open(prefix)
	if err != nil {
		return err
	}
	defer other.Close()
	begun := time.Now()
	_, releaseOther, err := boardsOf(b.ctx, other, 1)
	if err != nil {
		return err
	}
	defer releaseOther()
	fmt.Printf("| the first call on a server that has not read this board yet | %.0f ms |\n", float64(time.Since(begun).Microseconds())/1000)
	begun = time.Now()
	if err := l.Forget("bed/1"); err != nil {
		return err
	}
	fmt.Printf("| a checkpoint of it, whole | %.0f ms |\n", float64(time.Since(begun).Microseconds())/1000)
	return nil
}
