package etcd

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/mvccpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

const (
	atOnce   = 60      // boards in one transaction
	together = 1 << 20 // and bytes, unless one alone is more
	underWay = 2       // transactions at the same time
	// attempt is how long one node may take to answer before another is asked.
	attempt = 1500 * time.Millisecond
	// far is after how long a silence of the feed nothing is believed without a fence.
	far = time.Second
)

// ErrNoMajority is returned where etcd does not answer, as when most of its nodes are gone.
// Nothing was done.
var ErrNoMajority = fmt.Errorf("%w: etcd does not answer, which takes most of its nodes", journal.ErrBusy)

// A group is the nodes of one etcd, and what waits for them.
type group struct {
	c       *clientv3.Client
	keys    layout
	kept    time.Duration // how long the log stays at least
	writes  gathered[*write]
	fences  gathered[*fence]
	heard   atomic.Int64 // when the feed said something last, in nanoseconds
	behind  atomic.Int64 // commits that met another server's, for metrics
	fenced  atomic.Int64 // reads of a fence, which may serve many
	batched atomic.Int64 // transactions
}

func newGroup(c *clientv3.Client, prefix string) *group {
	g := &group{c: c, keys: layout(prefix), kept: keptFor}
	g.writes.run, g.fences.run = g.commit, g.read
	g.writes.most, g.fences.most = atOnce, 100
	return g
}

// near says whether the feed is alive.
func (g *group) near() bool { return time.Now().UnixNano()-g.heard.Load() < int64(far) }

// silence is for how long the feed has said nothing.
func (g *group) silence() time.Duration { return time.Duration(time.Now().UnixNano() - g.heard.Load()) }

// Gathered runs what comes at the same time together: a run has all that waited when it
// began, up to most of it, and whoever comes later is in a later one.
type gathered[T sized] struct {
	run  func([]T)
	most int

	mu      sync.Mutex // guards what follows
	waiting []T
	runs    int
}

type sized interface{ bytes() int }

func (g *gathered[T]) add(one T) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.waiting = append(g.waiting, one)
	g.next()
}

// next begins a run, where there is room for one; mu must be held.
func (g *gathered[T]) next() {
	if g.runs >= underWay || len(g.waiting) == 0 {
		return
	}
	n, bytes := 0, 0
	for n < len(g.waiting) && n < g.most && (n == 0 || bytes+g.waiting[n].bytes() <= together) {
		bytes += g.waiting[n].bytes()
		n++
	}
	some := g.waiting[:n:n]
	if g.waiting = g.waiting[n:]; len(g.waiting) == 0 {
		g.waiting = nil
	}
	g.runs++
	go func() {
		g.run(some)
		g.mu.Lock()
		defer g.mu.Unlock()
		g.runs--
		g.next()
	}()
}

// A write is a transaction of its own among others: then is done where cond holds, and
// otherwise els.
type write struct {
	cond clientv3.Cmp
	then []clientv3.Op
	els  []clientv3.Op
	size int
	done chan struct{}

	held bool
	says []*etcdserverpb.ResponseOp
	rev  int64 // of the store after it
	err  error
}

func (w *write) bytes() int { return w.size }

func (g *group) commit(some []*write) {
	ctx, cancel := context.WithTimeout(context.Background(), attempt)
	defer cancel()
	ops := make([]clientv3.Op, len(some))
	for i, w := range some {
		ops[i] = clientv3.OpTxn([]clientv3.Cmp{w.cond}, w.then, w.els)
	}
	g.batched.Add(1)
	resp, err := g.c.Txn(ctx).Then(ops...).Commit()
	for i, w := range some {
		if w.err = err; err == nil {
			one := resp.Responses[i].GetResponseTxn()
			w.held, w.says, w.rev = one.Succeeded, one.Responses, resp.Header.Revision
		}
		close(w.done)
	}
}

// do carries out a write. What may or may not have been done is sent again, the same, until
// it is known: where the first has arrived, the second finds it. The errors are
// ledger.ErrNotStored for what was refused, ledger.ErrUncertain where the time ended before
// it was known, and ErrNoMajority where nothing was sent at all.
func (g *group) do(ctx context.Context, w write) (held bool, says []*etcdserverpb.ResponseOp, rev int64, err error) {
	if !g.near() { // better to ask first than to leave something in doubt
		if _, err := g.fence(ctx, ""); err != nil {
			return false, nil, 0, err
		}
	}
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, 200*time.Millisecond) {
		try := w
		try.done = make(chan struct{})
		g.writes.add(&try)
		select {
		case <-try.done:
		case <-ctx.Done():
			return false, nil, 0, fmt.Errorf("%w: etcd has not said whether it was done", ledger.ErrUncertain)
		}
		switch {
		case try.err == nil:
			return try.held, try.says, try.rev, nil
		case refused(try.err):
			return false, nil, 0, fmt.Errorf("%w: %w", ledger.ErrNotStored, try.err)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return false, nil, 0, fmt.Errorf("%w: %w", ledger.ErrUncertain, try.err)
		}
	}
}

// refused says whether an error is one after which nothing can have been done.
func refused(err error) bool {
	for _, no := range []error{
		rpctypes.ErrNoSpace, rpctypes.ErrRequestTooLarge, rpctypes.ErrTooManyRequests, rpctypes.ErrTooManyOps, rpctypes.ErrPermissionDenied,
		rpctypes.ErrInvalidAuthToken, rpctypes.ErrUserEmpty, rpctypes.ErrDuplicateKey, rpctypes.ErrEmptyKey,
	} {
		if errors.Is(err, no) {
			return true
		}
	}
	return false
}

// A fence is a read of a board's head that sees all that was answered before.
type fence struct {
	board string // empty: of the store alone
	done  chan struct{}
	kv    *mvccpb.KeyValue // nil: there is none
	rev   int64
	err   error
}

func (*fence) bytes() int { return 1 }

// read reads the heads of boards, each once.
func (g *group) read(some []*fence) {
	ctx, cancel := context.WithTimeout(context.Background(), attempt)
	defer cancel()
	at := map[string]int{}
	var ops []clientv3.Op
	for _, f := range some {
		if _, asked := at[f.board]; asked {
			continue
		}
		at[f.board] = len(ops)
		key := g.keys.store()
		if f.board != "" {
			key = g.keys.head(f.board)
		}
		ops = append(ops, clientv3.OpGet(key))
	}
	g.fenced.Add(1)
	resp, err := g.c.Txn(ctx).Then(ops...).Commit()
	for _, f := range some {
		if f.err = err; err == nil {
			f.rev = resp.Header.Revision
			if kvs := resp.Responses[at[f.board]].GetResponseRange().Kvs; len(kvs) > 0 {
				f.kv = kvs[0]
			}
		}
		close(f.done)
	}
}

// fence gives the head of a board as it is now, whoever wrote it; nil: it has none. Those
// who ask at the same time are answered by one read. The error is ErrNoMajority, or that of
// ctx.
func (g *group) fence(ctx context.Context, board string) (*mvccpb.KeyValue, error) {
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, 200*time.Millisecond) {
		f := &fence{board: board, done: make(chan struct{})}
		g.fences.add(f)
		select {
		case <-f.done:
		case <-ctx.Done():
			return nil, noMajority(ctx, nil)
		}
		if f.err == nil {
			return f.kv, nil
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, noMajority(ctx, f.err)
		}
	}
}

// noMajority is the error where ctx ended while etcd was waited for.
func noMajority(ctx context.Context, cause error) error {
	if errors.Is(ctx.Err(), context.Canceled) {
		return ctx.Err()
	}
	if cause != nil {
		return fmt.Errorf("%w: %w", ErrNoMajority, cause)
	}
	return ErrNoMajority
}

// patience is how long a read waits for etcd.
const patience = 5 * time.Second

// get reads keys, and again from another node where one does not answer.
func (g *group) get(ctx context.Context, key string, opts ...clientv3.OpOption) (*clientv3.GetResponse, error) {
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, 200*time.Millisecond) {
		one, cancel := context.WithTimeout(ctx, 2*attempt)
		resp, err := g.c.Get(one, key, opts...)
		cancel()
		if err == nil || errors.Is(err, rpctypes.ErrCompacted) {
			return resp, err
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, noMajority(ctx, err)
		}
	}
}
