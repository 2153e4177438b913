package etcd

import (
	"context"
	"time"
)

// wrote delivers a batch: see listener.
func (s *Store) wrote(life string, b batch) {
	if b.at > 0 {
		s.lag.Store(max(0, time.Now().UnixMilli()-b.at))
	}
	s.mu.Lock()
	o := s.lives[life]
	s.mu.Unlock()
	if o != nil {
		o.log.offer(b)
		s.refresh(o.name, o)
	}
}

// headed delivers a head: see listener.
func (s *Store) headed(board string, h head, rev int64) {
	if o := s.opened(board); o != nil {
		o.log.offerHead(h, rev)
		s.refresh(board, o)
	}
}

// recorded follows the group records: see listener.
func (s *Store) recorded(made bool, rev int64) {
	if !made {
		s.boards.add(-1, rev)
		return
	}
	s.boards.add(1, rev)
	s.Made()
}

// removed closes a board that any server has removed.
func (s *Store) removed(board string) {
	if o := s.opened(board); o != nil {
		_ = o.log.gone()
		go func() { _ = s.Shelf.Remove(context.Background(), board, "", func() error { return nil }) }()
	}
}

// missed makes the open boards of a span read what is stored: see listener.
func (s *Store) missed(g *group, in span) {
	if in.from == g.keys.groups() {
		s.boards.forget()
		return
	}
	if in.from == g.keys.tokens() {
		go s.findVoid()
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, o := range s.open {
		if o.log.g == g && (in.has(g.keys.head(name)) || in.has(g.keys.of(name, o.life).batches+"x")) {
			o.log.doubt()
			go s.refresh(name, o)
		}
	}
}
