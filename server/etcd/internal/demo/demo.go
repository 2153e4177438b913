// Package demo plays what happens at Rowan Street when a machine dies: three nodes, three
// servers, thirty phones, and a rain tank that must not lose a litre.
package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"sync"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
)

const (
	phones = 30
	can    = 10      // litres
	full   = 100_000 // litres, at the start
	calm   = 4 * time.Second
	pause  = 400 * time.Millisecond // of a phone between two cans
)

var tankLitres = pantry.Int("tank/litres", 0)

// A taker is what the phones have done.
type taker struct {
	mu    sync.Mutex // guards what follows
	taken []time.Time
	took  []time.Duration
	bad   []error
}

func (t *taker) done(begun time.Time, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err != nil {
		t.bad = append(t.bad, err)
		return
	}
	t.taken, t.took = append(t.taken, time.Now()), append(t.took, time.Since(begun))
}

// gap is the longest time without a can between two moments.
func (t *taker) gap(from, to time.Time) (longest time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	last := from
	for _, at := range t.taken {
		if at.After(from) && at.Before(to) {
			longest = max(longest, at.Sub(last))
			last = at
		}
	}
	return max(longest, to.Sub(last))
}

// begin has all phones take water until stop is called. It waits for the last can of each.
func (t *taker) begin(ctx context.Context, link string) (stop func(), err error) {
	taking, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	var joined []*board.Board
	stop = sync.OnceFunc(func() {
		cancel()
		all.Wait()
		for _, b := range joined {
			_ = b.Close()
		}
	})
	for i := range phones {
		b, err := board.Join(link, board.ClientName(fmt.Sprintf("tankwatch %d", i+1)), board.OnProblem(func(pantry.Problem) {}))
		if err != nil {
			stop()
			return nil, err
		}
		joined = append(joined, b)
		tank := board.On(b, tankLitres)
		all.Go(func() {
			for taking.Err() == nil {
				begun := time.Now()
				_, err := board.Add(ctx, tank, -can) // to its end, also when all is over
				t.done(begun, err)
				select {
				case <-time.After(pause):
				case <-taking.Done():
				}
			}
		})
	}
	return stop, nil
}

// Run plays it, and says what happened. The error is not nil where a litre is missing, or
// counted twice.
func Run(ctx context.Context, w io.Writer, command func(args ...string) *exec.Cmd) (err error) {
	ctx, cancel := context.WithTimeout(ctx, 55*time.Second)
	defer cancel()
	dir, err := os.MkdirTemp("", "smallpantry-etcd-demo-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	say := func(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }
	say("Rowan Street community garden: three nodes of etcd, three servers, thirty phones")
	begun := time.Now()
	c, err := cluster.Start(ctx, cluster.Options{Dir: dir, Command: command, Nodes: 3, Servers: 3, Board: "rowan-street"})
	if err != nil {
		return err
	}
	defer c.Close()
	balancer, err := cluster.Balance(c.Addresses)
	if err != nil {
		return err
	}
	defer balancer.Close()
	say("  all of them answer after %.1f s", time.Since(begun).Seconds())

	link := c.LinkAt(balancer.Address())
	gate, err := board.Join(link, board.ClientName("gatehouse"), board.OnProblem(func(pantry.Problem) {}))
	if err != nil {
		return err
	}
	defer gate.Close()
	if err := board.On(gate, tankLitres).Set(ctx, full); err != nil {
		return fmt.Errorf("fill the tank: %w", err)
	}
	say("  the rain tank has %d litres; every phone takes cans of %d", full, can)

	var t taker
	stop, err := t.begin(ctx, link)
	if err != nil {
		return err
	}
	defer stop()
	lose := func(what string, kill func()) {
		sleep(ctx, calm)
		from := time.Now()
		kill()
		say("\n%s is killed", what)
		sleep(ctx, calm)
		say("  %.2f s was the longest that no phone got water", t.gap(from, time.Now()).Seconds())
	}
	leader, err := c.Leader(ctx)
	if err == nil {
		lose(fmt.Sprintf("node %d, which led,", leader+1), func() { c.KillNode(leader) })
		lose("server 2", func() { c.KillServer(1) })
	}
	stop()
	if err != nil {
		return err
	}
	return tell(ctx, say, c, &t)
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// tell compares what the phones took with what each server says.
func tell(ctx context.Context, say func(string, ...any), c *cluster.Cluster, t *taker) error {
	slices.Sort(t.took)
	cans := len(t.taken)
	if cans == 0 {
		return errors.New("no phone got water")
	}
	say("\n%d cans were taken, each within %.0f ms at the median and %.0f ms at the 99th of a hundred", cans,
		float64(t.took[cans/2].Microseconds())/1000, float64(t.took[cans*99/100].Microseconds())/1000)
	for _, err := range t.bad {
		say("  a phone was told: %v", err)
	}
	want := full - can*cans
	for i, address := range c.Addresses {
		if i == 1 { // which was killed
			continue
		}
		b, err := board.Join(c.LinkAt(address), board.OnProblem(func(pantry.Problem) {}))
		if err != nil {
			return err
		}
		litres, _, err := board.On(b, tankLitres).Lookup(ctx)
		if err = errors.Join(err, b.Close()); err != nil {
			return err
		}
		say("  server %d says that %d litres are left", i+1, litres)
		if litres > want || litres < want-can*len(t.bad) {
			return fmt.Errorf("%d to %d litres should be left", want-can*len(t.bad), want)
		}
	}
	if len(t.bad) > 0 {
		say("of the %d cans that phones were told of, each counts once or not at all", len(t.bad))
	}
	say("%d - %d × %d = %d: no litre is lost, and none counted twice", full, cans, can, want)
	return nil
}
