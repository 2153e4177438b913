package etcd

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

const (
	atOnce      = 60      // boards that are written to in one transaction
	readsAtOnce = 100     // and whose heads are read in one
	together    = 1 << 20 // and bytes, unless one alone is more
	underWay    = 2       // transactions at the same time
	// attempt is how long one node may take to answer before another is asked: while there
	// is no leader, what was sent to one that is gone comes to nothing.
	attempt = 700 * time.Millisecond
	// again is how long is waited between two attempts, at most.
	again = 100 * time.Millisecond
	// far is after how long a silence of the feed nothing is believed without a fence.
	far = time.Second
)

// ErrNoMajority is returned where etcd does not answer, as when most of its nodes are gone.
// Nothing was done.
var ErrNoMajority = fmt.Errorf("%w: etcd does not answer, which takes most of its nodes", journal.ErrBusy)

// A group is the nodes of one etcd, and what waits for them.
type group struct {
	name   string // empty: the first, which has what is not a board's
	c      *clientv3.Client
	keys   layout
	kept   time.Duration // how long the log stays at least
	writes gathered[*write]
	fences gathered[*fence]

	fmu    sync.Mutex // guards coming
	coming map[string]*fence

	short   atomic.Int64 // how many attempts were too short, one after the other
	heard   atomic.Int64 // when the feed said something last, in nanoseconds
	behind  atomic.Int64 // commits that met another server's, for metrics
	fenced  atomic.Int64 // reads of a fence, which may serve many
	batched atomic.Int64 // transactions
}

func newGroup(c *clientv3.Client, prefix string) *group {
	g := &group{c: c, keys: layout(prefix), kept: keptFor, coming: map[string]*fence{}}
	g.writes.run, g.fences.run = g.commit, g.read
	g.writes.most, g.fences.most = atOnce, 100_000
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
	ctx, cancel := g.attempt()
	defer cancel()
	ops := make([]clientv3.Op, len(some))
	for i, w := range some {
		ops[i] = clientv3.OpTxn([]clientv3.Cmp{w.cond}, w.then, w.els)
	}
	g.batched.Add(1)
	resp, err := g.c.Txn(ctx).Then(ops...).Commit()
	g.answered(err)
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
		if _, _, err := g.fence(ctx, ""); err != nil {
			return false, nil, 0, err
		}
	}
	if ctx.Err() != nil { // nothing is sent of which nobody would hear
		return false, nil, 0, fmt.Errorf("%w: others write to this board all the time", journal.ErrBusy)
	}
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, again) {
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

// A fence is a read of a board's head that sees all that was answered before. All who come
// until it begins wait for the same.
type fence struct {
	board string // empty: of the store alone
	done  chan struct{}
	head  *head // nil: there is none
	rev   int64 // by which it was written
	err   error
}

func (*fence) bytes() int { return 1 }

// read reads the heads of boards, each once.
func (g *group) read(some []*fence) {
	g.fmu.Lock()
	for _, f := range some {
		delete(g.coming, f.board) // whoever comes now needs a later one
	}
	g.fmu.Unlock()
	ctx, cancel := g.attempt()
	defer cancel()
	var err error
	for from := 0; from < len(some) && err == nil; from += readsAtOnce {
		err = g.readHeads(ctx, some[from:min(from+readsAtOnce, len(some))])
	}
	g.answered(err)
	for _, f := range some {
		if err != nil {
			f.err = err
		}
		close(f.done)
	}
}

// readHeads reads the heads of a few boards.
func (g *group) readHeads(ctx context.Context, some []*fence) error {
	var ops []clientv3.Op
	for _, f := range some {
		op := clientv3.OpGet(g.keys.store(), clientv3.WithCountOnly())
		if f.board != "" {
			op = clientv3.OpGet(g.keys.head(f.board))
		}
		ops = append(ops, op)
	}
	g.fenced.Add(1)
	resp, err := g.c.Txn(ctx).Then(ops...).Commit()
	if err != nil {
		return err
	}
	for i, f := range some {
		for _, kv := range resp.Responses[i].GetResponseRange().Kvs {
			var h head
			if h, f.err = readHead(string(kv.Key), kv.Value); f.err == nil {
				f.head, f.rev = &h, kv.ModRevision
			}
		}
	}
	return nil
}

// attempt gives how long the next one may take: longer where those before were too short,
// as on machines that have much to do.
func (g *group) attempt() (context.Context, context.CancelFunc) {
	long := attempt << min(g.short.Load(), 2)
	return context.WithTimeout(clientv3.WithRequireLeader(context.Background()), long)
}

// answered takes in how an attempt went.
func (g *group) answered(err error) {
	switch {
	case err == nil:
		g.short.Store(0)
	case errors.Is(err, context.DeadlineExceeded):
		g.short.Add(1)
	}
}

// fence gives the head of a board as it is now, whoever wrote it, and by which revision; nil:
// it has none. The error is ErrNoMajority, that of ctx, or that of a head that can't be read.
func (g *group) fence(ctx context.Context, board string) (*head, int64, error) {
	begun := time.Now()
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, again) {
		f := g.join(board)
		select {
		case <-f.done:
		case <-ctx.Done():
			return nil, 0, noMajority(ctx, nil)
		}
		if _, damaged := journal.AsDamage(f.err); f.err == nil || damaged {
			return f.head, f.rev, f.err
		}
		if time.Since(begun) > patience {
			return nil, 0, fmt.Errorf("%w: %w", ErrNoMajority, f.err)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, 0, noMajority(ctx, f.err)
		}
	}
}

// join gives the fence of a board that begins next.
func (g *group) join(board string) *fence {
	g.fmu.Lock()
	defer g.fmu.Unlock()
	f := g.coming[board]
	if f == nil {
		f = &fence{board: board, done: make(chan struct{})}
		g.coming[board] = f
		g.fences.add(f)
	}
	return f
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
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, again) {
		one, cancel := context.WithTimeout(ctx, 4*attempt)
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
