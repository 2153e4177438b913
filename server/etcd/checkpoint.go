package etcd

import (
	"context"
	"io/fs"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

// Rewrite makes a checkpoint. If something was forgotten, everything before it is removed at once.
// Otherwise the previous checkpoint stays, and the log after it, for servers that are behind.
func (l *log) Rewrite(h ledger.Head, s ledger.State, wait time.Duration) (ledger.Head, error) {
	if l.rev == 0 && l.making == nil {
		return h, fs.ErrNotExist
	}
	ctx, cancel := context.WithTimeout(context.Background(), max(wait, patience))
	defer cancel()
	image := journal.Image(s.Header, s.Lines)
	point := checkpoint{ID: draw(), Version: s.Version, Bytes: int64(len(image)), At: time.Now().UnixMilli()}
	var err error
	in := l.g.keys.of(l.board, s.Header.LifeID())
	w := write{key: l.g.keys.head(l.board), cond: []clientv3.Cmp{l.isHead()}, els: []clientv3.Op{clientv3.OpGet(l.g.keys.head(l.board))}}
	if l.rev == 0 && len(image) <= partSize { // one round trip
		point.Parts = 1
		w.then = append(w.then, clientv3.OpPut(part(in.checkpoint(point.ID), 0), string(image)))
	} else if point.Parts, err = l.g.putParts(ctx, in.checkpoint(point.ID), image); err != nil {
		return h, err
	}
	to := head{Life: s.Header.LifeID(), ID: s.Header.ID, Version: s.Version, End: s.End.String(), Size: point.Bytes, Checkpoints: []checkpoint{point}}
	if l.rev > 0 && s.Header.ID == l.head.ID {
		to.Checkpoints = append(to.Checkpoints, keepOf(l.head.Checkpoints, time.Now().Add(-l.g.kept))...)
	}
	to.First = to.Checkpoints[len(to.Checkpoints)-1].Version + 1
	w.then = append(w.then, clientv3.OpPut(w.key, to.value()))
	if l.rev == 0 {
		w = l.making.write(w)
	} else {
		w.then = append(w.then, clientv3.OpDelete(in.batches, clientv3.WithRange(in.batch(to.First))))
	}
	held, says, rev, err := l.g.do(ctx, w)
	if err != nil {
		return h, err
	}
	if !held {
		heads := says[0].GetResponseRange().Kvs
		switch {
		case len(heads) == 0:
			return h, l.none()
		case string(heads[0].Value) != to.value(): // otherwise its first attempt had arrived
			l.doubt()
			return h, ledger.ErrBehind
		}
		rev = heads[0].ModRevision
	}
	if l.rev == 0 {
		l.making.made.Store(true)
	}
	l.rev, l.head = rev, to
	l.lives()
	header := s.Header
	l.lines = l.lines.Replaced(&header, point.Bytes, s.Count, s.Version, s.End)
	l.g.sweep(ctx, l.board, to, rev)
	return l.now(), nil
}

// keepOf returns the checkpoints that are kept beside a new one: the newest, and those after which
// the log reaches back to a time.
func keepOf(before []checkpoint, since time.Time) []checkpoint {
	n := 1
	for n < min(len(before), mostCheckpoints-1) && before[n-1].At > since.UnixMilli() {
		n++
	}
	return before[:min(n, len(before))]
}

// sweep removes what no head refers to: parts of batches before the first that is kept, and
// checkpoints that were begun before the newest was complete, whose writers are behind it. What it
// leaves is removed the next time.
func (g *group) sweep(ctx context.Context, board string, h head, rev int64) {
	in := g.keys.of(board, h.Life)
	_, _ = g.c.Delete(ctx, in.parts, clientv3.WithRange(in.parts+number(h.First)))
	under := in.checkpoints
	resp, err := g.c.Get(ctx, under, clientv3.WithPrefix(), clientv3.WithKeysOnly(), clientv3.WithMaxCreateRev(rev))
	if err != nil {
		return
	}
	used := map[string]bool{}
	for _, c := range h.Checkpoints {
		used[c.ID] = true
	}
	for _, kv := range resp.Kvs {
		if id := string(kv.Key[len(under) : len(kv.Key)-5]); !used[id] {
			used[id] = true
			_, _ = g.c.Delete(ctx, under+id+"/", clientv3.WithPrefix())
		}
	}
}
