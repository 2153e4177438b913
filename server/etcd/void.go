package etcd

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"slices"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
)

// Beside its entry in the ledger, each token has a key t/BOARD/ID. A token without it is void. So a token can be
// revoked by deleting, while etcd has no space to store that.

// withTokens adds the keys of new tokens to the write of a batch of the tokens' ledger, and returns the names of
// those that the batch drops.
func (g *group) withTokens(then []clientv3.Op, lines []byte) (ops []clientv3.Op, dropped []string) {
	for line := range bytes.Lines(lines) {
		var c struct {
			Set  []struct{ Name string }
			Drop []string
		}
		if json.Unmarshal(line, &c) != nil {
			continue // the ledger has written it, so that it can be read
		}
		for _, one := range c.Set {
			then = append(then, clientv3.OpPut(g.keys.tokens()+one.Name, ""))
		}
		dropped = append(dropped, c.Drop...)
	}
	return then, dropped
}

// dropTokens deletes the keys of tokens that were dropped. One that stays does no harm.
func (g *group) dropTokens(ctx context.Context, names []string) {
	if len(names) > 0 {
		_ = g.deleteTokens(ctx, names)
	}
}

func (g *group) deleteTokens(ctx context.Context, names []string) error {
	for some := range slices.Chunk(names, readsAtOnce) {
		w := write{key: g.keys.tokens()}
		for _, name := range some {
			w.then = append(w.then, clientv3.OpDelete(g.keys.tokens()+name))
		}
		if _, _, _, err := g.do(ctx, w); err != nil {
			return err
		}
	}
	return nil
}

// VoidTokens makes tokens void: see store.Shared.
func (s *Store) VoidTokens(names []string) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	return s.g.deleteTokens(ctx, names)
}

// OnVoid has f called with void tokens: see store.Shared.
func (s *Store) OnVoid(f func(names ...string)) error {
	s.voided.Store(&f)
	return s.findVoid()
}

// void delivers the name of a token whose key was deleted: see listener. It may have been dropped, too.
func (s *Store) void(token string) {
	if f := s.voided.Load(); f != nil {
		(*f)(token)
	}
}

// findVoid delivers the tokens in the ledger that have no key.
func (s *Store) findVoid() error {
	f := s.voided.Load()
	if f == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	l, err := s.Tokens(ctx)
	if err != nil {
		return err
	}
	names, err := s.voidOf(ctx, l)
	if err == nil {
		(*f)(names...)
	}
	return err
}

// voidOf returns the names of the tokens in a ledger that have no key.
func (s *Store) voidOf(ctx context.Context, l *ledger.Ledger) ([]string, error) {
	names := map[string]bool{} // before the keys: what is made later has its key
	snap := l.Snapshot()
	for e := range snap.Entries("", "") {
		names[e.Name] = true
	}
	snap.Release()
	under := s.g.keys.tokens()
	_, err := s.g.walk(ctx, under, clientv3.GetPrefixRangeEnd(under), 0, mostKeys, func(key string, _ []byte, _ int64) error {
		delete(names, key[len(under):])
		return nil
	})
	return slices.Collect(maps.Keys(names)), err
}

// dropVoid drops the void tokens from a ledger in files, which has no keys beside it.
func (s *Store) dropVoid(ctx context.Context, l *ledger.Ledger) error {
	names, err := s.voidOf(ctx, l)
	if err != nil || len(names) == 0 {
		return err
	}
	_, err = l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		for _, name := range names {
			tx.Drop(name)
		}
		return nil
	})
	return err
}
