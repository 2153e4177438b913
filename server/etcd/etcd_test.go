package etcd

import (
	"cmp"
	"fmt"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/suite"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
	"github.com/small-pantry/pantry/value"
)

// endpoints are those of one node for the whole test; each test has a prefix of its own.
var endpoints []string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "etcd")
	if err != nil {
		panic(err)
	}
	members, err := node.Plan(dir, 1)
	if err != nil {
		panic(err)
	}
	members[0].NoSync = true
	patience = 20 * time.Second
	n, err := node.Start(members[0], members)
	if err == nil {
		err = n.Ready(20 * time.Second)
	}
	if err != nil {
		panic(err)
	}
	endpoints = node.Endpoints(members)
	code := m.Run()
	n.Close()
	os.RemoveAll(dir)
	os.Exit(code)
}

var prefixes atomic.Int64

func newPrefix() string { return fmt.Sprintf("test/%d/", prefixes.Add(1)) }

// open returns a server's store, which is closed when the test ends.
func open(t testing.TB, prefix string, o Options) *Store {
	t.Helper()
	o.Endpoints, o.Prefix = endpoints, prefix
	o.ledger.Wait = cmp.Or(o.ledger.Wait, patience)
	s, err := Open(t.Context(), o)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

// Two servers take turns. One of them reads all from etcd again at each reopening.
func TestSuiteOnEtcd(t *testing.T) {
	t.Parallel()
	suite.Run(t, suite.CodeOf, func(t testing.TB) suite.Board {
		prefix := newPrefix()
		var all []*Store
		for range 2 {
			s, err := Open(t.Context(), Options{Endpoints: endpoints, Prefix: prefix, ledger: ledger.Options{Twice: true, Every: 5, Wait: patience}})
			require.NoError(t, err)
			all = append(all, s)
			t.Cleanup(func() { assert.NoError(t, s.Close()) })
		}
		turn := 0
		return suite.OnLedger{
			With: func(f func(l *ledger.Ledger) error) error {
				turn++
				l, release, err := all[turn%2].Board(t.Context(), "rowan-street", true)
				if err != nil {
					return err
				}
				defer release()
				return f(l)
			},
			Again: func() error {
				return all[turn%2].Shelf.Remove(t.Context(), "rowan-street", "", func() error { return nil })
			},
		}
	})
}

func add(name string, n int64) []entry.Edit {
	return []entry.Edit{{Name: name, Op: value.Op{Verb: value.Add, Operand: value.Int(n)}}}
}

func prefixed() []clientv3.OpOption { return []clientv3.OpOption{clientv3.WithPrefix()} }

func text(name, s string) []entry.Edit {
	return []entry.Edit{{Name: name, Op: value.Op{Verb: value.Put, Operand: value.Text(s)}}}
}

// hold returns a board, which is held until the test ends.
func hold(t testing.TB, s *Store) *ledger.Ledger {
	t.Helper()
	l, release, err := s.Board(t.Context(), "rowan-street", true)
	require.NoError(t, err)
	t.Cleanup(release)
	return l
}

// Where the feed brings more batches than a board holds, the board reads its log.
func TestFeedOverflows(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	one, two := open(t, prefix, Options{}), open(t, prefix, Options{})
	written, release, err := one.Board(t.Context(), "rowan-street", true)
	require.NoError(t, err)
	defer release()
	read, release, err := two.Board(t.Context(), "rowan-street", false)
	require.NoError(t, err)
	defer release()
	two.stop() // from now on only this test feeds the second store
	two.feeds.Wait()
	require.NoError(t, read.Refresh()) // the end of its feed has it ask once
	_, err = written.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		e, err := ledger.Encode(value.Int(7))
		tx.Put("tank/litres", e)
		return err
	})
	require.NoError(t, err)
	require.NoError(t, read.Refresh())
	require.Less(t, read.Version(), written.Version(), "it asks no more")
	for range mostOffered + 1 {
		two.opened("rowan-street").log.offer(batch{})
	}
	require.NoError(t, read.Refresh())
	assert.Equal(t, written.Version(), read.Version())
}
