package etcd

import (
	"context"
	"fmt"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/store"
)

// errMoving is returned for a board that is between two groups, which takes a moment.
var errMoving = refuse.As(journal.ErrBusy, "the board is being moved to another group")

// moving reports whether a head was frozen, so that its board can be copied to another group.
func (h *head) moving() bool { return h.Gone != "" && h.Moved != nil && len(h.Checkpoints) > 0 }

// Move moves a board to another group, "" being the first, while servers use it. Its history, marks and links
// stay the same; writes wait for the moment that copying takes. After an error it can be called again, and
// continues. The errors are store.ErrNoBoard, ErrNoGroup, and those of a board that can't be read.
func (s *Store) Move(ctx context.Context, board, group string) (m Moved, err error) {
	to, err := s.called(group)
	if err != nil {
		return m, err
	}
	id := draw()
	for {
		from, h, rev, record, err := s.locate(ctx, board)
		switch {
		case err != nil:
			return m, err
		case h.moving() && *h.Moved != group:
			return m, fmt.Errorf("the board %s is being moved to the group %q: finish that first", board, *h.Moved)
		case h.moving():
			return s.finishMove(ctx, board, from, to, *h, rev, record)
		case from == to:
			return Moved{board, h.Version, h.Size}, nil
		}
		frozen := *h
		frozen.Gone, frozen.Moved = id, &group
		key := from.keys.head(board)
		_, _, _, err = from.do(ctx, write{
			key: key, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(key), "=", rev)}, then: []clientv3.Op{clientv3.OpPut(key, frozen.value())},
		})
		if err != nil {
			return m, err
		}
		// Now it is frozen, or a commit came first. The next read says which.
	}
}

// locate returns the group that has a board, its head, which can be frozen, and the revisions of the head and
// of the group record.
func (s *Store) locate(ctx context.Context, board string) (g *group, h *head, rev, record int64, err error) {
	resp, err := s.g.get(ctx, s.g.keys.group(board))
	if err != nil {
		return nil, nil, 0, 0, err
	}
	if len(resp.Kvs) == 0 {
		return nil, nil, 0, 0, store.ErrNoBoard
	}
	record = resp.Kvs[0].ModRevision
	if g, err = s.called(string(resp.Kvs[0].Value)); err != nil {
		return nil, nil, 0, 0, err
	}
	for range len(s.groups) + 1 {
		if h, rev, err = g.headOf(ctx, board); err != nil || h == nil || h.Gone == "" || h.moving() {
			break
		}
		if h.Moved == nil {
			h = nil
			break
		}
		if g, err = s.called(*h.Moved); err != nil { // it was moved, and the record does not say so yet
			break
		}
	}
	if err == nil && h == nil {
		err = store.ErrNoBoard
	}
	return g, h, rev, record, err
}

// headOf returns what is stored as the head of a board: nil if there is nothing.
func (g *group) headOf(ctx context.Context, board string) (*head, int64, error) {
	key := g.keys.head(board)
	resp, err := g.get(ctx, key)
	if err != nil || len(resp.Kvs) == 0 {
		return nil, 0, err
	}
	h, err := readHead(key, resp.Kvs[0].Value)
	return &h, resp.Kvs[0].ModRevision, err
}

// finishMove copies a frozen board, changes its record, and removes it from its earlier group.
func (s *Store) finishMove(ctx context.Context, board string, from, to *group, frozen head, rev, record int64) (m Moved, err error) {
	there, base, err := to.headOf(ctx, board)
	if err != nil {
		return m, err
	}
	if there == nil || there.Gone != "" {
		if err := s.copyFrozen(ctx, board, from, to, frozen, base); err != nil {
			return m, err
		}
	} else if there.Life != frozen.Life {
		return m, fmt.Errorf("%w: the group %q has another board of this name", ErrNotEmpty, to.name)
	}
	key := s.g.keys.group(board)
	_, _, _, err = s.g.do(ctx, write{ // if it was removed meanwhile, there is no record to change
		key: key, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(key), "=", record)}, then: []clientv3.Op{clientv3.OpPut(key, to.name)},
	})
	if err != nil {
		return m, err
	}
	// What follows it is a tombstone that says where the board is, for servers that have read the old record.
	key = from.keys.head(board)
	w := write{
		key: key, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(key), "=", rev)},
		then: []clientv3.Op{clientv3.OpPut(key, head{Life: frozen.Life, Version: frozen.Version, Gone: frozen.Gone, Moved: frozen.Moved}.value(), clientv3.WithLease(from.tombs(ctx)))},
	}
	for _, under := range from.keys.of(board, frozen.Life).all() {
		w.then = append(w.then, clientv3.OpDelete(under, clientv3.WithPrefix()))
	}
	_, _, _, err = from.do(ctx, w)
	return Moved{board, frozen.Version, frozen.Size}, err
}

// copyFrozen writes a frozen board into a group. base is the revision of its tombstone there, or 0.
func (s *Store) copyFrozen(ctx context.Context, board string, from, to *group, frozen head, base int64) error {
	now, err := from.get(ctx, from.keys.head(board))
	if err != nil {
		return err
	}
	all := stored{head: frozen}
	if err := from.fillStored(ctx, &all, board, frozen.Checkpoints[0].Version+1, clientv3.WithRev(now.Header.Revision)); err != nil {
		return err
	}
	image, err := all.file()
	if err != nil {
		return err
	}
	point := checkpoint{ID: draw(), Version: frozen.Version, Bytes: int64(len(image)), At: time.Now().UnixMilli()}
	if point.Parts, err = to.putParts(ctx, to.keys.of(board, frozen.Life).checkpoint(point.ID), image); err != nil {
		return err
	}
	h := head{Life: frozen.Life, ID: frozen.ID, Version: frozen.Version, End: frozen.End, First: frozen.Version + 1, Size: point.Bytes, Checkpoints: []checkpoint{point}}
	key := to.keys.head(board)
	held, says, _, err := to.do(ctx, write{
		key: key, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(key), "=", base)},
		then: []clientv3.Op{clientv3.OpPut(key, h.value())}, els: []clientv3.Op{clientv3.OpGet(key)},
	})
	if err == nil && !held {
		if kvs := says[0].GetResponseRange().Kvs; len(kvs) == 0 || string(kvs[0].Value) != h.value() {
			err = fmt.Errorf("%w: another move of the board %s is under way", journal.ErrBusy, board)
		}
	}
	return err
}
