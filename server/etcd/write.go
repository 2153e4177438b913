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
	"github.com/small-pantry/pantry/internal/wire"
)

// A write is one of several in a transaction: then is executed if all of cond hold, and els otherwise. Two
// writes of one key are never in one transaction, which etcd would refuse.
type write struct {
	key  string
	cond []clientv3.Cmp
	then []clientv3.Op
	els  []clientv3.Op
	size int
	done chan struct{}

	held  bool
	says  []*etcdserverpb.ResponseOp
	rev   int64 // of the store after it
	doubt bool  // see send
	err   error
}

func (w *write) bytes() int      { return w.size }
func (w *write) subject() string { return w.key }

func (g *group) commit(some []*write) {
	ctx, cancel := g.attempt()
	defer cancel()
	ops := make([]clientv3.Op, len(some))
	for i, w := range some {
		ops[i] = clientv3.OpTxn(w.cond, w.then, w.els)
	}
	g.batched.Add(1)
	resp, err := g.c.Txn(ctx).Then(ops...).Commit()
	g.answered(err, true)
	for i, w := range some {
		if w.err = err; err == nil {
			one := resp.Responses[i].GetResponseTxn()
			w.held, w.says, w.rev = one.Succeeded, one.Responses, resp.Header.Revision
		}
		close(w.done)
	}
}

// do executes a write. If the outcome is unknown, it sends the same again until it is known: if the
// first attempt has arrived, the second one finds it. The errors are ledger.ErrNotStored if it was
// refused, ledger.ErrUncertain if the time ended before the outcome was known, and ErrNoMajority or ErrNoNode if
// nothing was sent.
func (g *group) do(ctx context.Context, w write) (held bool, says []*etcdserverpb.ResponseOp, rev int64, err error) {
	done, err := g.send(ctx, w)
	if err != nil {
		return false, nil, 0, err
	}
	return done.held, done.says, done.rev, nil
}

// send is do, and says with doubt whether an attempt before the last one can have arrived.
func (g *group) send(ctx context.Context, w write) (done *write, err error) {
	if g.newer.Load() {
		return nil, fmt.Errorf("%w: %w", ledger.ErrNotStored, ErrNewer)
	}
	if !g.near() { // asking first is better than leaving something uncertain
		if _, _, err := g.fence(ctx, ""); err != nil {
			return nil, err
		}
	}
	if ctx.Err() != nil { // nothing is sent whose answer has no receiver
		return nil, fmt.Errorf("%w: others write to this board all the time", journal.ErrBusy)
	}
	doubt := false // an earlier attempt can have arrived
	done, err = persist(ctx, g, func() (*write, error) {
		try := w
		try.done = make(chan struct{})
		g.writes.add(&try)
		select {
		case <-try.done:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		if refused(try.err) && !doubt {
			return nil, backoff.Permanent(notStored(try.err))
		}
		try.doubt = doubt
		doubt = doubt || try.err != nil
		return &try, try.err
	})
	if err != nil && !errors.Is(err, ledger.ErrNotStored) {
		// The cause must not be taken for an error after which nothing was done.
		err = fmt.Errorf("%w: etcd has not answered whether it was done: %v", ledger.ErrUncertain, err)
	}
	return done, err
}

// notStored is the error of a refused write.
func notStored(refusal error) error {
	if errors.Is(refusal, rpctypes.ErrNoSpace) {
		return fmt.Errorf("%w: %w: %w", ledger.ErrNotStored, wire.ErrNoSpace, refusal)
	}
	return fmt.Errorf("%w: %w", ledger.ErrNotStored, refusal)
}

// refused reports whether an error means that certainly nothing was done.
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
