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
	for _, f := range []func() error{b.one, b.many, b.three, b.woken, b.fenced, b.failover, b.others} {
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
	if err := b.operations(); err != nil {
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

// boardsOf returns boards, which are released together.
func boardsOf(ctx context.Context, s store.Store, name string, n int) (all []*ledger.Ledger, release func(), err error) {
	all = make([]*ledger.Ledger, n)
	free, errs := make([]func(), n), make([]error, n)
	var next atomic.Int64
	var makers sync.WaitGroup
	for range min(n, 32) {
		makers.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				all[i], free[i], errs[i] = s.Board(ctx, fmt.Sprintf("%s-%d", name, i), true)
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

// on has f use boards of a server of its own.
func (b *bench) on(prefix string, n int, f func(boards []*ledger.Ledger) error) error {
	s, err := b.open(prefix)
	if err != nil {
		return err
	}
	boards, release, err := boardsOf(b.ctx, s, "board", n)
	if err == nil {
		err = f(boards)
		release()
	}
	return errors.Join(err, s.Close())
}
