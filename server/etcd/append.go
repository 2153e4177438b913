package etcd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	clientv3 "go.etcd.io/etcd/client/v3"
)

func (l *log) Append(h ledger.Head, b ledger.Batch) (ledger.Head, error) {
	ctx, cancel := context.WithTimeout(context.Background(), b.Wait)
	defer cancel()
	if b.Count == 0 {
		return h, l.confirm(ctx)
	}
	start := time.Now()
	first := h.Version + 1
	one := batch{id: newBatchID(first), first: first, count: b.Count, lines: b.Lines, at: start.UnixMilli()}
	if len(b.Lines) > together {
		if err := l.writeParts(ctx, &one); err != nil {
			return h, err
		}
	}
	to := l.head
	to.Version, to.End, to.Size = one.last(), journal.EndOf(b.Lines).String(), l.head.Size+int64(len(b.Lines))
	value, in := one.value(), l.in()
	w := write{
		key: l.g.keys.head(l.board), cond: []clientv3.Cmp{l.isHead()},
		then: []clientv3.Op{clientv3.OpPut(l.g.keys.head(l.board), to.value()), clientv3.OpPut(in.batch(first), string(value))},
		els: []clientv3.Op{clientv3.OpGet(l.g.keys.head(l.board)),
			clientv3.OpGet(in.batch(first), clientv3.WithRange(clientv3.GetPrefixRangeEnd(in.batches)), clientv3.WithLimit(8))},
		size: len(value),
	}
	var dropped []string
	if l.board == tokens {
		w.then, dropped = l.g.withTokens(w.then, b.Lines)
	}
	done, err := l.g.send(ctx, w)
	var rev int64
	switch {
	case errors.Is(err, ledger.ErrNotStored):
		rev, err = l.stored(ctx, one, err)
	case err == nil && done.held:
		rev = done.rev
	case err == nil:
		rev, err = l.met(one, done)
	}
	if err != nil {
		return h, err
	}
	l.g.dropTokens(ctx, dropped)
	l.rev, l.head, l.lines = rev, to, l.lines.Advance(b.Lines, b.Count, one.last())
	l.took = time.Since(start)
	return l.now(), nil
}

// stored finds out whether a batch exists that etcd reported as refused: it also reports that for the
// write that filled it, which it has done.
func (l *log) stored(ctx context.Context, b batch, refusal error) (rev int64, err error) {
	key := l.in().batch(b.first)
	resp, err := l.g.get(ctx, key)
	if err != nil {
		return 0, fmt.Errorf("%w: %v, and %v", ledger.ErrUncertain, refusal, err)
	}
	for _, kv := range resp.Kvs {
		there, err := readBatch(key, kv.Value)
		if err == nil && there.id == b.id {
			return kv.ModRevision, nil
		}
	}
	return 0, refusal
}

// isHead is the condition that the head is the known one, or that there still is none.
func (l *log) isHead() clientv3.Cmp {
	return clientv3.Compare(clientv3.ModRevision(l.g.keys.head(l.board)), "=", cmp.Or(l.rev, l.base))
}

// met keeps what is stored where a batch was to go. If it is that batch itself, whose first attempt
// had arrived, it returns the revision.
func (l *log) met(mine batch, done *write) (rev int64, err error) {
	heads, batches := done.says[0].GetResponseRange().Kvs, done.says[1].GetResponseRange().Kvs
	if len(heads) == 0 {
		return 0, l.none()
	}
	h, err := readHead(string(heads[0].Key), heads[0].Value)
	if err != nil {
		return 0, err
	}
	if h.Gone != "" || h.Life != l.head.Life {
		return 0, l.gone()
	}
	all := make([]batch, len(batches))
	for i, kv := range batches {
		if all[i], err = readBatch(string(kv.Key), kv.Value); err != nil {
			return 0, l.damage(err)
		}
		if all[i].rev = kv.ModRevision; i == 0 && all[i].id == mine.id {
			return kv.ModRevision, nil
		}
	}
	if done.doubt && h.First > mine.first { // by forgetting, another server has removed what was there
		return 0, fmt.Errorf("%w: another server has rewritten the board since", ledger.ErrUncertain)
	}
	l.g.behind.Add(1)
	if n := len(all); n > 0 && all[0].first == mine.first && all[n-1].last() == h.Version && h.ID == l.head.ID {
		for _, b := range all { // so that it need not be read
			l.offer(b)
		}
		l.offerHead(h, heads[0].ModRevision)
	} else {
		l.doubt()
	}
	return 0, ledger.ErrBehind
}

// confirm makes sure that the known state is still the newest.
func (l *log) confirm(ctx context.Context) error {
	h, _, err := l.g.fence(ctx, l.board)
	switch {
	case err != nil:
		return err
	case h == nil, h.Life != l.head.Life:
		return l.gone()
	case h.Version != l.lines.Version(), h.ID != l.head.ID:
		l.doubt()
		return ledger.ErrBehind
	}
	return nil
}

// MayRewrite returns nil: a server that can write can do everything.
func (l *log) MayRewrite() error { return nil }

// Hold and Release do nothing: a write that is behind is refused, so no writer waits.
func (l *log) Hold(time.Duration) error { return nil }

func (l *log) Release() {}
