package etcd

import (
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
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/suite"
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

// open gives a server's store, which is closed when the test ends.
func open(t testing.TB, prefix string, o Options) *Store {
	t.Helper()
	o.Endpoints, o.Prefix = endpoints, prefix
	s, err := Open(t.Context(), o)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

// board is a board in etcd, for the suite: two servers take turns.
type board struct {
	t    testing.TB
	s    []*Store
	turn int
}

func (b *board) with(f func(l *ledger.Ledger) error) error {
	b.turn++
	l, release, err := b.s[b.turn%len(b.s)].Board(b.t.Context(), "rowan-street", true)
	if err != nil {
		return err
	}
	defer release()
	return f(l)
}

func (b *board) Commit(edits []entry.Edit) (out rules.Outcome, err error) {
	err = b.with(func(l *ledger.Ledger) error {
		out, err = rules.Commit(l, rules.Call{Who: entry.Author{By: "gatehouse"}, Edits: edits})
		return err
	})
	return out, err
}

func (b *board) Entries() (out []entry.Entry, err error) {
	err = b.with(func(l *ledger.Ledger) error {
		if err := l.Current(b.t.Context()); err != nil {
			return err
		}
		snap := l.Snapshot()
		defer snap.Release()
		for e := range snap.Entries("", "") {
			out = append(out, e.Entry())
		}
		return nil
	})
	return out, err
}

// Reopen has one of the servers read all from etcd again.
func (b *board) Reopen() error {
	s := b.s[b.turn%len(b.s)]
	return s.Shelf.Remove(b.t.Context(), "rowan-street", func() error { return nil })
}

func TestSuiteOnEtcd(t *testing.T) {
	prefix := newPrefix()
	n := 0
	suite.Run(t, suite.CodeOf, func(t testing.TB) suite.Board {
		n++
		b := &board{t: t}
		for range 2 {
			o := Options{ledger: ledger.Options{Twice: true, Small: 1 << 10}}
			o.Endpoints, o.Prefix = endpoints, fmt.Sprint(prefix, n)
			s, err := Open(t.Context(), o)
			require.NoError(t, err)
			b.s = append(b.s, s)
			t.Cleanup(func() { assert.NoError(t, s.Close()) })
		}
		return b
	})
}

func add(name string, n int64) []entry.Edit {
	return []entry.Edit{{Name: name, Op: value.Op{Verb: value.Add, Operand: value.Int(n)}}}
}

func prefixed() []clientv3.OpOption { return []clientv3.OpOption{clientv3.WithPrefix()} }

func text(name, s string) []entry.Edit {
	return []entry.Edit{{Name: name, Op: value.Op{Verb: value.Put, Operand: value.Text(s)}}}
}
