package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/anishathalye/porcupine"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
)

func status(t *testing.T, url, token string) int {
	t.Helper()
	rq, err := http.NewRequestWithContext(t.Context(), "GET", url, nil)
	require.NoError(t, err)
	rq.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(rq)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	return resp.StatusCode
}

// A counter with additions and reads, for porcupine. The result of an addition is not part of it, since that
// of a repeat is known later.
var counter = porcupine.Model{
	Init: func() any { return 0 },
	Step: func(state, input, output any) (bool, any) {
		if input.(bool) { // an addition
			return true, state.(int) + 1
		}
		return output.(int) == state.(int), state
	},
}

// A record of what phones did and were shown.
type record struct {
	begun time.Time
	done  atomic.Int64
	maybe atomic.Int64

	mu    sync.Mutex // guards what follows
	ops   []porcupine.Operation
	shown map[int64]int // the value that was shown at each version
	wrong []string
}

func (r *record) now() int64 { return int64(time.Since(r.begun)) }

func (r *record) op(client int, add bool, call int64, value int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ops = append(r.ops, porcupine.Operation{ClientId: client, Input: add, Call: call, Output: value, Return: r.now()})
}

func (r *record) bad(format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.wrong = append(r.wrong, fmt.Sprintf(format, args...))
}

func (r *record) show(version int64, value int) {
	r.mu.Lock()
	was, told := r.shown[version]
	r.shown[version] = value
	r.mu.Unlock()
	if told && was != value {
		r.bad("version %d shows %d and %d", version, was, value)
	}
}

// Nodes and servers are killed and paused while phones add to one number. No acknowledged addition is lost
// or counted twice, no version has two values, and no reader goes back. Boards that are made, removed and made
// again meanwhile keep what was written to them, and only that. All certificates are replaced meanwhile;
// in make soak they also end, and so does their authority.
func TestKills(t *testing.T) {
	t.Parallel()
	run := soak.For(20*time.Second, 30*time.Minute)
	own := newCertificates(t)
	c, err := cluster.Start(t.Context(), cluster.Options{
		Dir: t.TempDir(), Command: command, NoSync: !soak.On(), Nodes: 3, Servers: 3, Board: "rowan-street", Certificates: own.dir,
		Flags: []string{"--limit", "client-rate=1000", "--limit", "address-rate=10000"},
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	client := c.HTTPClient()
	t.Cleanup(client.CloseIdleConnections)
	balancer, err := cluster.Balance(c.Addresses)
	require.NoError(t, err)
	defer func() { assert.NoError(t, balancer.Close()) }()
	r := &record{begun: time.Now(), shown: map[int64]int{}}
	ctx, stop := context.WithTimeout(t.Context(), run)
	defer stop()
	var all sync.WaitGroup
	all.Go(func() { own.keep(ctx) })
	for i := range 8 {
		tank := join(t, c.LinkAt(balancer.Address()), fmt.Sprint("tankwatch ", i), board.WithoutPush(), board.HTTPClient(client))
		all.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				call := r.now()
				if i < 6 {
					_, err := board.Add(t.Context(), tank, 1)
					if err != nil { // it may be done yet
						r.maybe.Add(1)
						r.mu.Lock()
						r.ops = append(r.ops, porcupine.Operation{ClientId: 100 + len(r.ops), Input: true, Call: call, Output: 0, Return: int64(time.Hour * 100)})
						r.mu.Unlock()
					} else {
						r.done.Add(1)
						r.op(i, true, call, 0)
					}
				} else if value, _, err := tank.Lookup(t.Context()); err == nil {
					r.op(i, false, call, value)
				}
				time.Sleep(time.Duration(60+rand.IntN(80)) * time.Millisecond) // the pace of a phone; the porcupine check bounds the operations
			}
		})
	}
	for i, address := range c.Addresses {
		tank := join(t, c.LinkAt(address), "shed", board.HTTPClient(client))
		all.Go(func() {
			last := int64(0)
			for s := range tank.Watch(ctx) {
				if s.Version < last {
					r.bad("server %d showed version %d after %d", i+1, s.Version, last)
				}
				last = s.Version
				if s.Found {
					r.show(s.Version, s.Value)
				}
			}
		})
	}
	admin, err := c.AdminToken()
	require.NoError(t, err)
	var gardeners []*gardener
	for i := range 3 {
		g := &gardener{r: r, client: client, admin: admin, board: fmt.Sprint("bed-", i), n: i}
		for server := range c.Addresses {
			g.servers = append(g.servers, c.URL(server))
		}
		gardeners = append(gardeners, g)
		all.Go(func() { g.work(ctx) })
	}
	breaks := trouble(ctx, t, c, own)
	stop()
	all.Wait()
	require.Eventually(t, func() bool { _, err := c.Leader(t.Context()); return err == nil }, hang.Patience, 50*time.Millisecond)

	done, maybe := int(r.done.Load()), int(r.maybe.Load())
	lives := 0
	for _, g := range gardeners {
		lives += g.lives
	}
	t.Logf("%d additions were answered and %d not; %d versions were shown; %d boards were made and removed; %d certificates were replaced; %s", done, maybe, len(r.shown), lives, own.replaced, breaks)
	var now []int
	for _, address := range c.Addresses {
		value, _, err := join(t, c.LinkAt(address), "gatehouse", board.HTTPClient(client), board.Timeout(20*time.Second)).Lookup(t.Context())
		require.NoError(t, err)
		now = append(now, value)
	}
	assert.Equal(t, now[0], now[1])
	assert.Equal(t, now[0], now[2])
	assert.GreaterOrEqual(t, now[0], done, "lost")
	assert.LessOrEqual(t, now[0], done+maybe, "counted twice")
	assert.Empty(t, r.wrong)
	assert.NotZero(t, done)
	if run < time.Hour/2 { // porcupine's search copes with a history of a minute
		result := porcupine.CheckOperationsTimeout(counter, r.ops, 30*time.Second)
		assert.NotEqual(t, porcupine.Illegal, result, "what was read is no order of what was done")
		t.Logf("porcupine: %s, of %d operations", result, len(r.ops))
	}
	code, out, errs := call(append([]string{"check"}, c.Flags()...)...)
	assert.Zero(t, code, out+errs)
}

// trouble makes it, one after the other, until ctx ends, mends it, and says what it was.
func trouble(ctx context.Context, t *testing.T, c *cluster.Cluster, own *certificates) (what string) {
	t.Helper()
	wait := func(d time.Duration) {
		select {
		case <-time.After(d):
		case <-ctx.Done():
		}
	}
	counts := map[string]int{}
	kinds := []func() error{
		func() error {
			i, err := c.Leader(t.Context())
			if err != nil {
				return nil // there is none just now
			}
			counts["leaders killed"]++
			c.KillNode(i)
			wait(2500 * time.Millisecond)
			return c.StartNode(i)
		},
		func() error {
			i := rand.IntN(3)
			counts["servers killed"]++
			c.KillServer(i)
			wait(time.Second)
			err := c.StartServer(t.Context(), i)
			for end := time.Now().Add(time.Minute); err != nil && time.Now().Before(end); { // as an init system does, while etcd is not there yet
				err = c.StartServer(t.Context(), i)
			}
			return err
		},
		func() error {
			i, err := c.Leader(t.Context())
			if err != nil {
				return nil
			}
			counts["leaders still"]++
			err = c.PauseNode(i, true)
			wait(3 * time.Second)
			return errors.Join(err, c.PauseNode(i, false))
		},
		func() error {
			i := rand.IntN(3)
			counts["servers still"]++
			err := c.PauseServer(i, true)
			wait(2500 * time.Millisecond)
			return errors.Join(err, c.PauseServer(i, false))
		},
		func() error {
			counts["two of three nodes killed"]++
			i := rand.IntN(3)
			c.KillNode(i)
			c.KillNode((i + 1) % 3)
			wait(time.Second)
			return errors.Join(c.StartNode(i), c.StartNode((i+1)%3))
		},
	}
	if soak.On() {
		kinds = append(kinds, func() error {
			counts["authorities replaced"]++
			return own.change(c)
		})
	}
	for n := 0; ctx.Err() == nil; n++ {
		wait(2 * time.Second)
		if ctx.Err() == nil {
			require.NoError(t, kinds[n%len(kinds)]())
		}
	}
	return fmt.Sprint(counts)
}
