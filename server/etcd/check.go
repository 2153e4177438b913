package etcd

import (
	"context"
	"fmt"
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

// Check reads every board, and the tokens, as a server does when it opens them, and returns the
// results.
func (s *Store) Check(ctx context.Context, each func(BoardCheck)) error {
	for _, g := range s.groups {
		if err := s.checkGroup(ctx, g, each); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) checkGroup(ctx context.Context, g *group, each func(BoardCheck)) error {
	names, err := g.boards(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		c := BoardCheck{Board: name}
		one, cancel := context.WithTimeout(ctx, 2*patience)
		all, err := g.load(one, name)
		if err == nil {
			c.Version, c.Bytes, c.Checkpoints = all.head.Version, all.head.Size, len(all.head.Checkpoints)
			var batches []batch
			batches, err = g.batches(one, name, all.head.First)
			c.Batches = len(batches)
			for i := 1; i < len(batches) && err == nil; i++ {
				if batches[i].first != batches[i-1].last()+1 {
					err = fmt.Errorf("the batch at version %d is after version %d", batches[i].first, batches[i-1].last())
				}
			}
		}
		cancel()
		if err == nil {
			l, bad := s.openLedger(name, g, false)
			if err = bad; bad == nil {
				err = l.Close()
			}
		}
		c.Err = err
		each(c)
	}
	return nil
}
