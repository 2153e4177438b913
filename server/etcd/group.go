package etcd

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/cenkalti/backoff/v5"
	"google.golang.org/grpc/connectivity"

	"github.com/small-pantry/pantry/internal/wire"
)

const (
	atOnce      = 60      // boards that are written in one transaction
	readsAtOnce = 100     // and whose heads are read in one
	together    = 1 << 20 // and bytes, unless one alone has more
	underWay    = 2       // transactions at the same time
	// attempt is how long one node has to answer before another is asked: without a leader, a
	// request to a node that is gone fails.
	attempt = 700 * time.Millisecond
	// again is the maximum pause between two attempts.
	again = 100 * time.Millisecond
	// far is the silence of the feed after which every read needs a fence.
	far = time.Second
)

// Errors if etcd does not answer. Nothing was done.
var (
	ErrNoMajority = wire.ErrNoMajority // less than most of its nodes work together
	ErrNoNode     = wire.ErrNoNode     // none can be reached
)

// A group is the nodes of one etcd, and the calls that wait for them.
type group struct {
	name   string // empty: the first, which also has what belongs to no board
	tls    func(host string) *tls.Config
	c      *clientv3.Client
	keys   layout
	kept   time.Duration // the minimum time that the log is kept
	writes gathered[*write]
	fences gathered[*fence]

	fmu    sync.Mutex // guards coming
	coming map[string]*fence

	feed   *feed
	tmu    sync.Mutex // guards the following two
	lease  clientv3.LeaseID
	leased time.Time

	state   condition
	short   atomic.Int64 // attempts in a row that were too short
	heard   atomic.Int64 // when the feed was last heard, in nanoseconds after begun
	newer   atomic.Bool  // a later program uses the store now
	behind  atomic.Int64 // commits that met another server's, for metrics
	fenced  atomic.Int64 // reads of a fence, each for one or more callers
	batched atomic.Int64 // transactions
}

func newGroup(c *clientv3.Client, prefix string) *group {
	g := &group{c: c, keys: layout(prefix), kept: keptFor, coming: map[string]*fence{}}
	g.writes.run, g.fences.run = g.commit, g.read
	g.writes.most, g.fences.most = atOnce, 100_000
	return g
}

// begun is a moment from which times are measured, so that a clock that is set changes nothing.
var begun = time.Now()

// hear records that the feed was heard.
func (g *group) hear() { g.heard.Store(int64(time.Since(begun))) }

// silence returns for how long the feed has been silent.
func (g *group) silence() time.Duration { return time.Since(begun) - time.Duration(g.heard.Load()) }

// near reports whether the feed is alive.
func (g *group) near() bool { return g.silence() < far }

// attempt returns how long the next attempt can take: longer if the previous ones were too short,
// for example on a busy machine.
func (g *group) attempt() (context.Context, context.CancelFunc) {
	long := attempt << min(g.short.Load(), 2)
	return context.WithTimeout(clientv3.WithRequireLeader(context.Background()), long)
}

// answered records the result of an attempt, which may have written.
func (g *group) answered(err error, wrote bool) {
	g.state.note(err, wrote, g.outage)
	switch {
	case err == nil:
		g.short.Store(0)
	case errors.Is(err, context.DeadlineExceeded):
		g.short.Add(1)
	}
}

// outage returns why etcd does not answer.
func (g *group) outage() error {
	if g.c.ActiveConnection().GetState() == connectivity.Ready {
		return ErrNoMajority
	}
	return ErrNoNode
}

// noMajority is the error if ctx ended while etcd was asked.
func (g *group) noMajority(ctx context.Context, cause error) error {
	if errors.Is(ctx.Err(), context.Canceled) {
		return ctx.Err()
	}
	if cause != nil {
		return fmt.Errorf("%w: %w", g.outage(), cause)
	}
	return g.outage()
}

// patience is how long a read waits for etcd. Tests on a busy machine wait longer.
var patience = 5 * time.Second

// get reads keys, and asks another node if one does not answer.
func (g *group) get(ctx context.Context, key string, opts ...clientv3.OpOption) (*clientv3.GetResponse, error) {
	return persist(ctx, g, func() (*clientv3.GetResponse, error) {
		one, cancel := context.WithTimeout(ctx, 4*attempt)
		defer cancel()
		resp, err := g.c.Get(one, key, opts...)
		if errors.Is(err, rpctypes.ErrCompacted) {
			err = backoff.Permanent(err)
		}
		return resp, err
	})
}

// put writes keys that nothing refers to yet, so it can be done twice.
func (g *group) put(ctx context.Context, key, value string) error {
	_, err := persist(ctx, g, func() (*clientv3.PutResponse, error) {
		one, cancel := context.WithTimeout(ctx, 4*attempt)
		defer cancel()
		resp, err := g.c.Put(one, key, value)
		g.answered(err, true)
		if refused(err) {
			err = backoff.Permanent(notStored(err))
		}
		return resp, err
	})
	return err
}

// persist calls f until it succeeds, with short pauses, or until it returns a permanent error or
// ctx ends. Then the error is ErrNoMajority or ErrNoNode with the last cause, or that of ctx.
func persist[T any](ctx context.Context, g *group, f func() (T, error)) (T, error) {
	var last error
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = 10*time.Millisecond, again
	x, err := backoff.Retry(ctx, func() (x T, err error) {
		x, err = f()
		last = err
		return x, err
	}, backoff.WithBackOff(pauses), backoff.WithMaxElapsedTime(0))
	if err != nil && ctx.Err() != nil && !errors.As(last, new(*backoff.PermanentError)) {
		err = g.noMajority(ctx, last)
	}
	return x, err
}
