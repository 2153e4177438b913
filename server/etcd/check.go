package etcd

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"

	clientv3 "go.etcd.io/etcd/client/v3"
	"golang.org/x/sync/errgroup"

	"github.com/small-pantry/pantry/internal/ledger"
)

// A BoardCheck is the result of checking a board.
type BoardCheck struct {
	Board       string
	Version     int64
	Bytes       int64
	Batches     int // that are kept
	Checkpoints int
	Err         error // nil if everything can be read
}

// A Stray is what a creation or a removal left when it was interrupted between two groups. No server uses it.
type Stray struct {
	Board string
	Group string // of the head without a group record; "" also for the record itself
	Head  bool   // there is a head, and no record of it; otherwise a record, and no head
	rev   int64
}

// checksAtOnce is how many boards are checked at the same time.
const checksAtOnce = 16

// Check reads every board, and the tokens, as a server does when it opens them, several at a time, and
// returns the results in no order.
func (s *Store) Check(ctx context.Context, each func(BoardCheck)) error {
	for _, g := range s.groups {
		names, err := g.boards(ctx)
		if err != nil {
			return err
		}
		var mu sync.Mutex // for each
		workers, checking := errgroup.WithContext(ctx)
		workers.SetLimit(checksAtOnce)
		for _, name := range names {
			workers.Go(func() error {
				c := s.checkBoard(checking, g, name)
				mu.Lock()
				defer mu.Unlock()
				if !errors.Is(c.Err, fs.ErrNotExist) { // it was removed meanwhile
					each(c)
				}
				return checking.Err()
			})
		}
		if err := workers.Wait(); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) checkBoard(ctx context.Context, g *group, name string) BoardCheck {
	c := BoardCheck{Board: name}
	one, cancel := context.WithTimeout(ctx, 2*patience)
	defer cancel()
	key := g.keys.head(name)
	resp, err := g.get(one, key)
	if err == nil && len(resp.Kvs) == 0 {
		err = fs.ErrNotExist
	}
	if c.Err = err; err != nil {
		return c
	}
	all := stored{rev: resp.Kvs[0].ModRevision}
	if all.head, c.Err = readHead(key, resp.Kvs[0].Value); c.Err == nil && all.head.Gone != "" {
		c.Err = fs.ErrNotExist
	}
	if c.Err != nil {
		return c
	}
	c.Version, c.Bytes, c.Checkpoints = all.head.Version, all.head.Size, len(all.head.Checkpoints)
	if c.Err = g.fillStored(one, &all, name, all.head.First, clientv3.WithRev(resp.Header.Revision)); c.Err != nil {
		return c
	}
	c.Batches = len(all.batches)
	for i := 1; i < len(all.batches); i++ {
		if all.batches[i].first != all.batches[i-1].last()+1 {
			c.Err = fmt.Errorf("the batch at version %d is after version %d", all.batches[i].first, all.batches[i-1].last())
			return c
		}
	}
	for len(all.batches) > 0 && all.batches[0].last() <= all.head.Checkpoints[0].Version { // the checkpoint has them
		all.batches = all.batches[1:]
	}
	opts := ledger.Options{ReadOnly: true, Problem: func(err error) { s.problem(name, err) }}
	l, err := ledger.OpenLog(strings.TrimPrefix(name, "!"), key, &log{g: g, board: name, loaded: &all}, opts)
	if c.Err = err; err == nil {
		c.Err = l.Close()
	}
	return c
}

// Strays returns what interrupted creations and removals left. Those that are under way can be among them:
// what is in two results, some seconds apart, is left over.
func (s *Store) Strays(ctx context.Context) (all []Stray, err error) {
	records := map[string]Stray{}
	in := map[string]string{}
	under := s.g.keys.groups()
	_, err = s.g.walk(ctx, under, clientv3.GetPrefixRangeEnd(under), 0, 1000, func(key string, value []byte, rev int64) error {
		name := key[len(under):]
		in[name], records[name] = string(value), Stray{Board: name, rev: rev}
		return nil
	})
	if err != nil {
		return nil, err
	}
	moved := map[[2]string]string{} // by board and earlier group
	alive := map[[2]string]int64{}
	for _, g := range s.groups {
		err := g.eachHead(ctx, func(name string, h head, rev int64) error {
			switch {
			case name == tokens:
			case h.moving(): // the move can be continued
				delete(records, name)
			case h.Moved != nil:
				moved[[2]string{name, g.name}] = *h.Moved
			case h.Gone == "":
				alive[[2]string{name, g.name}] = rev
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	for at, rev := range alive {
		name, group := at[0], at[1]
		recorded, ok := in[name]
		if to, was := moved[[2]string{name, recorded}]; was && recorded != group {
			recorded = to
		}
		if ok && recorded == group {
			delete(records, name)
		} else {
			all = append(all, Stray{Board: name, Group: group, Head: true, rev: rev})
		}
	}
	for _, one := range records {
		all = append(all, one)
	}
	return all, nil
}

// Mend writes the record of a stray head, unless there is another, and deletes a stray record. What has changed
// since it was found stays as it is.
func (s *Store) Mend(ctx context.Context, one Stray) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	record := s.g.keys.group(one.Board)
	w := write{key: record, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(record), "=", one.rev)}, then: []clientv3.Op{clientv3.OpDelete(record)}}
	if one.Head {
		w.cond = []clientv3.Cmp{clientv3.Compare(clientv3.CreateRevision(record), "=", 0)}
		w.then = []clientv3.Op{clientv3.OpPut(record, one.Group)}
	}
	_, _, _, err := s.g.do(ctx, w)
	return err
}
