package etcd

import (
	"context"
	"errors"
	"fmt"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/store"
)

// find returns the group of a board, and its current head; no head means that there is no such
// board.
func (s *Store) find(ctx context.Context, name string) (*group, *head, error) {
	s.mu.Lock()
	g := s.where[name]
	s.mu.Unlock()
	if g == nil {
		resp, err := s.g.get(ctx, s.g.keys.group(name))
		if err != nil || len(resp.Kvs) == 0 {
			return nil, nil, err
		}
		if g, err = s.called(string(resp.Kvs[0].Value)); err != nil {
			return nil, nil, err
		}
		s.assigned(name, g.name, true)
	}
	h, _, err := g.fence(ctx, name)
	if err == nil && h == nil {
		s.assigned(name, "", false)
	}
	return g, h, err
}

// called returns a group by its name.
func (s *Store) called(name string) (*group, error) {
	for _, g := range s.groups {
		if g.name == name {
			return g, nil
		}
	}
	return nil, fmt.Errorf("%w: it is in the group %q, which this server does not know", ErrNoGroup, name)
}

// ErrNoGroup is returned for a board in a group that a server does not know.
var ErrNoGroup = errors.New("not in any known group")

// place returns the group for a new board: the one that uses the least space, unless another server
// has assigned one first.
func (s *Store) place(ctx context.Context, name string) (*group, error) {
	if s.opts.Boards > 0 {
		resp, err := s.g.get(ctx, s.g.keys.groups(), clientv3.WithPrefix(), clientv3.WithCountOnly())
		if err != nil {
			return nil, err
		}
		if resp.Count >= int64(s.opts.Boards) {
			return nil, store.TooMany(s.opts.Boards)
		}
	}
	return s.record(ctx, name, s.roomiest(ctx))
}

// record writes the group record of a new board, and returns the group that it names: g, unless another
// server has recorded one first. A record of another group than the first is written again, so that a
// removal that has read the old one does not delete it.
func (s *Store) record(ctx context.Context, name string, g *group) (*group, error) {
	key := s.g.keys.group(name)
	cond, value := clientv3.Compare(clientv3.CreateRevision(key), "=", 0), g.name
	for {
		held, says, _, err := s.g.do(ctx, write{
			cond: []clientv3.Cmp{cond}, then: []clientv3.Op{clientv3.OpPut(key, value)}, els: []clientv3.Op{clientv3.OpGet(key)},
		})
		if err != nil {
			return nil, err
		}
		if held {
			s.assigned(name, g.name, true)
			return g, nil
		}
		kvs := says[0].GetResponseRange().Kvs
		if len(kvs) == 0 { // it was removed meanwhile
			cond, value = clientv3.Compare(clientv3.CreateRevision(key), "=", 0), g.name
			continue
		}
		value = string(kvs[0].Value)
		if g, err = s.called(value); err != nil {
			return nil, err
		}
		if g == s.g {
			s.assigned(name, g.name, true)
			return g, nil
		}
		cond = clientv3.Compare(clientv3.ModRevision(key), "=", kvs[0].ModRevision)
	}
}

// confirm finds out whether the group record of a board that was just created still names its group. In
// the first group, the creation itself was conditional on that.
func (s *Store) confirm(ctx context.Context, name string, g *group, l *ledger.Ledger) error {
	if g == s.g {
		return nil
	}
	recorded, err := s.record(ctx, name, g)
	if err == nil && recorded != g {
		err = store.ErrNoBoard // another server has created it in another group
		if bad := s.discard(ctx, name, g); bad != nil {
			err = bad
		}
	}
	if err != nil {
		return errors.Join(err, l.Close())
	}
	return nil
}

// discard removes a board that was created in a group that no record names.
func (s *Store) discard(ctx context.Context, name string, g *group) error {
	key := g.keys.head(name)
	_, _, _, err := g.do(ctx, write{cond: []clientv3.Cmp{clientv3.Compare(clientv3.CreateRevision(key), ">", 0)}, then: g.erase(name)})
	return err
}

// roomiest returns the group that uses the least space. A group that does not report it is left
// out.
func (s *Store) roomiest(ctx context.Context) *group {
	best, least := s.g, int64(-1)
	for _, g := range s.groups {
		if len(s.groups) == 1 {
			break
		}
		for _, at := range g.c.Endpoints() {
			one, cancel := context.WithTimeout(ctx, attempt)
			status, err := g.c.Status(one, at)
			cancel()
			if err == nil {
				if size := status.DbSizeInUse; least < 0 || size < least {
					best, least = g, size
				}
				break
			}
		}
	}
	return best
}

// assigned records the group of a board.
func (s *Store) assigned(board, group string, is bool) {
	g, err := s.called(group)
	s.mu.Lock()
	defer s.mu.Unlock()
	if !is || err != nil {
		delete(s.where, board)
		return
	}
	s.where[board] = g
}
