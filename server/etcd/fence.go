package etcd

import (
	"context"
	"time"

	"github.com/cenkalti/backoff/v5"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
)

// A fence is a read of a board's head that sees everything that was answered before. All callers
// that arrive before it begins share it.
type fence struct {
	board string // empty: of the store alone
	done  chan struct{}
	head  *head // nil if there is none
	rev   int64 // that wrote it, or its tombstone
	err   error
}

func (*fence) bytes() int        { return 1 }
func (f *fence) subject() string { return f.board }

// read reads the heads of boards, each once.
func (g *group) read(some []*fence) {
	g.fmu.Lock()
	for _, f := range some {
		delete(g.coming, f.board) // later callers need a later one
	}
	g.fmu.Unlock()
	ctx, cancel := g.attempt()
	defer cancel()
	var err error
	for from := 0; from < len(some) && err == nil; from += readsAtOnce {
		err = g.readHeads(ctx, some[from:min(from+readsAtOnce, len(some))])
	}
	g.answered(err, false)
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
				f.rev = kv.ModRevision
				if h.Gone == "" {
					f.head = &h
				}
			}
		}
	}
	return nil
}

// fence returns the current head of a board and the revision that wrote it; nil means that there is
// no such board, and the revision is that of its tombstone, or 0. The error is ErrNoMajority, that of
// ctx, or that of a head that can't be read.
func (g *group) fence(ctx context.Context, board string) (*head, int64, error) {
	if g.newer.Load() {
		return nil, 0, ErrNewer
	}
	from, limit := time.Now(), patience
	if g.state.lasts() > patience { // what has failed for so long is not waited for
		limit = 0
	}
	f, err := persist(ctx, g, func() (*fence, error) {
		f := g.join(board)
		select {
		case <-f.done:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		if _, damaged := journal.AsDamage(f.err); damaged {
			return nil, backoff.Permanent(f.err)
		}
		if f.err != nil && time.Since(from) > limit {
			return nil, backoff.Permanent(g.noMajority(ctx, f.err))
		}
		return f, f.err
	})
	if err != nil {
		return nil, 0, err
	}
	return f.head, f.rev, nil
}

// join returns the next fence of a board.
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
