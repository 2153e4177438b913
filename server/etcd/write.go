package etcd

import (
	"context"
	"errors"
	"fmt"

	"github.com/cenkalti/backoff/v5"
	"go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

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
	doubt := false // an attempt before may have arrived
	done, err := persist(ctx, func() (*write, error) {
		try := w
		try.done = make(chan struct{})
		g.writes.add(&try)
		select {
		case <-try.done:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		if refused(try.err) && !doubt {
			return nil, backoff.Permanent(fmt.Errorf("%w: %w", ledger.ErrNotStored, try.err))
		}
		doubt = doubt || try.err != nil
		return &try, try.err
	})
	if err != nil && !errors.Is(err, ledger.ErrNotStored) {
		err = fmt.Errorf("%w: etcd has not said whether it was done: %w", ledger.ErrUncertain, err)
	}
	if err != nil {
		return false, nil, 0, err
	}
	return done.held, done.says, done.rev, nil
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
