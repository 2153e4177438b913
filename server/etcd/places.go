package etcd

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/store"
)

// A place is where a board is stored, or was, as far as one read says.
type place struct {
	g      *group
	record int64 // the revision of the board's group record; 0 means none
	head   *head // nil means that there is no such board
	rev    int64 // that wrote the head, or its tombstone; 0 means neither
}

// find returns the place of a board, and waits for one that is being moved. For a board in the first group it
// takes one read.
func (s *Store) find(ctx context.Context, name string) (place, error) {
	return persist(ctx, s.g, func() (place, error) {
		p, err := s.findOnce(ctx, name)
		if err != nil && !errors.Is(err, errMoving) {
			err = backoff.Permanent(err)
		}
		return p, err
	})
}

func (s *Store) findOnce(ctx context.Context, name string) (p place, err error) {
	resp, err := s.g.reads(ctx, clientv3.OpGet(s.g.keys.group(name)), clientv3.OpGet(s.g.keys.head(name)))
	if err != nil {
		return p, err
	}
	p.g = s.g
	for _, kv := range resp.Responses[0].GetResponseRange().Kvs {
		p.record = kv.ModRevision
		if p.g, err = s.called(string(kv.Value)); err != nil {
			return p, err
		}
	}
	var h *head
	if p.g != s.g {
		h, p.rev, err = p.g.headOf(ctx, name)
	} else {
		for _, kv := range resp.Responses[1].GetResponseRange().Kvs {
			var first head
			first, err = readHead(string(kv.Key), kv.Value)
			h, p.rev = &first, kv.ModRevision
		}
	}
	switch {
	case err != nil || h == nil || p.record == 0 && name != tokens:
		return p, err
	case h.Gone == "":
		p.head = h
	case h.moving():
		return p, errMoving
	case h.Moved != nil: // and the record will say so
		if p.g, err = s.called(*h.Moved); err == nil {
			if p.head, p.rev, err = p.g.headOf(ctx, name); p.head != nil && p.head.Gone != "" {
				p.head, err = nil, errMoving
			}
		}
	}
	return p, err
}

// reads reads several things of one moment.
func (g *group) reads(ctx context.Context, ops ...clientv3.Op) (*clientv3.TxnResponse, error) {
	return persist(ctx, g, func() (*clientv3.TxnResponse, error) {
		one, cancel := context.WithTimeout(ctx, 4*attempt)
		defer cancel()
		return g.c.Txn(one).Then(ops...).Commit()
	})
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

// place returns how to create a board. A new one is put into the group that uses the least space. In the
// first group its record is written together with its head, otherwise before it. A creation writes
// the record even if there is one, so that a removal that has read an older one does not delete it.
func (s *Store) place(ctx context.Context, name string, p *place) (*making, error) {
	if s.opts.Boards > 0 {
		full, err := s.boards.reached(ctx, s.g, int64(s.opts.Boards))
		if err != nil {
			return nil, err
		}
		if full {
			return nil, store.TooMany(s.opts.Boards)
		}
	}
	if p.record == 0 {
		if g := s.roomiest(ctx); g != s.g {
			var err error
			p.g = g
			if _, p.rev, err = g.fence(ctx, name); err != nil {
				return nil, err
			}
		}
	}
	key := s.g.keys.group(name)
	if p.g == s.g {
		return &making{base: p.rev, record: key, rev: p.record, group: p.g.name}, nil
	}
	held, _, _, err := s.g.do(ctx, write{
		key: key, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(key), "=", p.record)}, then: []clientv3.Op{clientv3.OpPut(key, p.g.name)},
	})
	if err == nil && !held { // another server is creating it, or this is a repeat whose first attempt arrived
		err = store.ErrNoBoard
	}
	return &making{base: p.rev}, err
}

// A boardCount follows the group records, after it has counted them.
type boardCount struct {
	mu    sync.Mutex // held while they are counted
	known bool
	n     int64
	rev   int64 // of the store, when they were counted
}

// nearLimit is the number of boards below a limit from which they are counted for each creation.
const nearLimit = 100

// reached reports whether there are so many boards. What other servers create at the same moment can be left out.
func (c *boardCount) reached(ctx context.Context, g *group, most int64) (bool, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.known || c.n >= most-nearLimit {
		resp, err := g.get(ctx, g.keys.groups(), clientv3.WithPrefix(), clientv3.WithCountOnly())
		if err != nil {
			return false, err
		}
		c.known, c.n, c.rev = true, resp.Count, resp.Header.Revision
	}
	return c.n >= most, nil
}

// add follows a record that was created or deleted at a revision.
func (c *boardCount) add(n, rev int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if rev > c.rev {
		c.n += n
	}
}

// forget makes the next creation count them again.
func (c *boardCount) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.known = false
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

// Remove removes a board: see store.Store.
func (s *Store) Remove(ctx context.Context, name, life string) error {
	return s.Shelf.Remove(ctx, name, life, func() error {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
		defer cancel()
		return s.remove(ctx, name, life)
	})
}

// remove removes one life of a board: the given one, or if that is empty the one that it has now. Its head
// becomes a tombstone, with an id that a repeat after an unknown outcome finds again.
func (s *Store) remove(ctx context.Context, name, life string) error {
	id := draw()
	for found := false; ; found = true {
		p, err := s.find(ctx, name)
		if err != nil {
			return err
		}
		if p.head == nil || life != "" && p.head.Life != life {
			if found { // it was removed meanwhile, here or on another server
				return nil
			}
			return store.ErrNoBoard
		}
		life = p.head.Life
		done, err := s.bury(ctx, name, p, id)
		if err != nil || done {
			return err
		}
	}
}

// bury replaces the head by a tombstone, and deletes what belongs to the life. done is false if the head has
// changed: then the next read says what happened.
func (s *Store) bury(ctx context.Context, name string, p place, id string) (done bool, err error) {
	key, record := p.g.keys.head(name), s.g.keys.group(name)
	var then []clientv3.Op
	for _, under := range p.g.keys.of(name, p.head.Life).all() {
		then = append(then, clientv3.OpDelete(under, clientv3.WithPrefix()))
	}
	if p.g == s.g {
		then = append(then, clientv3.OpDelete(record))
	}
	w := write{
		key: key, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(key), "=", p.rev)},
		then: append([]clientv3.Op{clientv3.OpPut(key, head{Life: p.head.Life, Version: p.head.Version, Gone: id}.value(), clientv3.WithLease(p.g.tombs(ctx)))}, then...),
		els:  []clientv3.Op{clientv3.OpGet(key)},
	}
	held, says, _, err := p.g.do(ctx, w)
	if errors.Is(err, rpctypes.ErrNoSpace) || errors.Is(err, rpctypes.ErrLeaseNotFound) { // deleting needs no space
		w.then = append([]clientv3.Op{clientv3.OpDelete(key)}, then...)
		held, says, _, err = p.g.do(ctx, w)
	}
	if err != nil {
		return false, err
	}
	if !held {
		var h head
		for _, kv := range says[0].GetResponseRange().Kvs {
			h, _ = readHead(key, kv.Value)
		}
		if h.Gone != id { // a commit, or another server's removal
			return false, nil
		}
	}
	if p.g != s.g {
		_, _, _, err = s.g.do(ctx, write{
			key: record, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(record), "=", p.record)}, then: []clientv3.Op{clientv3.OpDelete(record)},
		})
	}
	return true, err
}

// buried is how long tombstones are kept: much longer than a request can be repeated.
const buried = time.Hour

// tombs returns a lease for tombstones. 0 means none: without it they stay, which takes little space.
func (g *group) tombs(ctx context.Context) clientv3.LeaseID {
	g.tmu.Lock()
	defer g.tmu.Unlock()
	if time.Since(g.leased) > buried {
		one, cancel := context.WithTimeout(ctx, attempt)
		defer cancel()
		lease, err := g.c.Grant(one, int64(2*buried/time.Second))
		if err != nil {
			return clientv3.NoLease
		}
		g.lease, g.leased = lease.ID, time.Now()
	}
	return g.lease
}
