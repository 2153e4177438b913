package etcd

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

// A lossy network to etcd: some transactions do not arrive, and of some that do no answer
// comes back.
type lossy struct {
	clientv3.KV
	rate float64
	free bool   // of conditions, which all hold: the fault that the tests must find
	lost func() // called instead of the next answer to a write
	full *bool  // etcd is full: true: what made it so is done, false: nothing is; nil: it is not
}

type lossyTxn struct {
	clientv3.Txn
	l      *lossy
	writes bool // and does not only read
}

var errLost = errors.New("lost on the way")

func (l *lossy) Txn(ctx context.Context) clientv3.Txn { return &lossyTxn{Txn: l.KV.Txn(ctx), l: l} }

func (t *lossyTxn) Then(ops ...clientv3.Op) clientv3.Txn {
	if t.l.free {
		for i, op := range ops {
			if op.IsTxn() {
				_, then, els := op.Txn()
				ops[i] = clientv3.OpTxn(nil, then, els)
			}
		}
	}
	t.writes = slices.ContainsFunc(ops, clientv3.Op.IsTxn)
	t.Txn = t.Txn.Then(ops...)
	return t
}

func (t *lossyTxn) Commit() (*clientv3.TxnResponse, error) {
	if rand.Float64() < t.l.rate/2 {
		return nil, errLost
	}
	if t.l.full != nil && !*t.l.full {
		return nil, rpctypes.ErrNoSpace
	}
	resp, err := t.Txn.Commit()
	if t.l.full != nil {
		return nil, rpctypes.ErrNoSpace
	}
	if lost := t.l.lost; lost != nil && t.writes {
		t.l.lost = nil
		lost()
		return nil, errLost
	}
	if rand.Float64() < t.l.rate {
		return nil, errLost
	}
	return resp, err
}

// A check collects what is wrong.
type findings struct {
	mu  sync.Mutex // guards what follows
	all []string
	at  map[int64]int64 // what was shown at each version
}

func (f *findings) add(format string, args ...any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.all = append(f.all, fmt.Sprintf(format, args...))
}

// shown compares what a version shows with what it showed to others.
func (f *findings) shown(version, n int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if was, told := f.at[version]; told && was != n {
		f.all = append(f.all, fmt.Sprintf("version %d shows %d here and %d there", version, n, was))
	}
	f.at[version] = n
}

func count(l *ledger.Ledger) (version, n int64) {
	snap := l.Snapshot()
	defer snap.Release()
	n, _ = snap.Record("n").Value.AsInt()
	return snap.Version, n
}

// torture has servers add to one number over a bad network, with a checkpoint every few
// commits, and says what was wrong: an addition that was lost or counted twice, a version
// that is two, one that goes back, a hole in the log.
func torture(t *testing.T, rate float64, free bool, each int) (wrong []string) {
	t.Helper()
	prefix := newPrefix()
	f := &findings{at: map[int64]int64{}}
	var stores []*Store
	for range 3 {
		s, err := Open(t.Context(), Options{Endpoints: endpoints, Prefix: prefix, ledger: ledger.Options{Every: 5}})
		require.NoError(t, err)
		defer func() {
			if err := s.Close(); err != nil {
				f.add("close: %v", err)
			}
		}()
		s.g.c.KV = &lossy{KV: s.g.c.KV, rate: rate, free: free}
		stores = append(stores, s)
	}
	var writers, watchers sync.WaitGroup
	ctx, stop := context.WithCancel(t.Context())
	for i, s := range stores {
		l, release, err := s.Board(ctx, "rowan-street", true)
		if err != nil {
			f.add("server %d: %v", i, err)
			continue
		}
		defer release()
		watchers.Go(func() {
			w := l.Watch(nil, nil)
			defer w.Close()
			for last := int64(0); w.Wait(ctx, nil); {
				version, n := count(l)
				if version < last {
					f.add("version %d came after %d", version, last)
				}
				last = version
				f.shown(version, n)
			}
		})
		for j := range 4 {
			writers.Go(func() {
				for k := range each {
					call := rules.Call{Who: entry.Author{By: "tankwatch"}, Edits: add("n", 1), Request: &rules.Request{
						Instance: fmt.Sprintf("%d-%d", i, j), Key: fmt.Sprint(k), Hash: "h", Known: func(mark.Mark) bool { return true }}}
					for tries := 0; ; tries++ {
						_, err := rules.Commit(l, call)
						if err == nil {
							break
						}
						if tries > 20 || !errors.Is(err, ledger.ErrUncertain) && !errors.Is(err, journal.ErrBusy) {
							f.add("a commit failed: %v", err)
							break
						}
					}
				}
			})
		}
	}
	writers.Wait()
	for i, s := range stores {
		l, release, err := s.Board(ctx, "rowan-street", false)
		if err == nil {
			err = l.Current(ctx)
			if version, n := count(l); n != int64(12*each) || version != n {
				f.add("server %d shows %d at version %d, after %d additions", i, n, version, 12*each)
			}
			release()
		}
		if err != nil {
			f.add("server %d: %v", i, err)
		}
	}
	stop()
	watchers.Wait()
	err := stores[0].Check(t.Context(), func(c BoardCheck) {
		if c.Err != nil {
			f.add("%s: %v", c.Board, c.Err)
		}
		if c.Board == tokens {
			return
		}
		if c.Checkpoints < 2 || c.Checkpoints > mostCheckpoints {
			f.add("%d checkpoints", c.Checkpoints)
		}
	})
	if err != nil {
		f.add("check: %v", err)
	}
	return f.all
}

func TestTorture(t *testing.T) {
	t.Parallel()
	for _, rate := range []float64{0, 0.3} {
		each := 40
		if rate > 0 {
			each = 15
		}
		assert.Empty(t, torture(t, rate, false, each), "%.1f", rate)
	}
}

// Without the condition under which a commit is written, the same finds it.
func TestTortureFinds(t *testing.T) {
	t.Parallel()
	assert.NotEmpty(t, torture(t, 0.3, true, 5))
}

// An addition whose answer is lost, and whose traces another server removes by forgetting before it is sent
// again, does not count twice: its outcome is unknown.
func TestForgottenMeanwhile(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	a, b := open(t, prefix, Options{}), open(t, prefix, Options{})
	la, lb := hold(t, a), hold(t, b)
	_, err := rules.Commit(lb, rules.Call{Edits: text("wifi", "secret")})
	require.NoError(t, err)
	require.NoError(t, la.Current(t.Context()))
	net := &lossy{KV: a.g.c.KV}
	a.g.c.KV = net
	net.lost = func() { assert.NoError(t, lb.Forget("wifi")) }
	if _, err = rules.Commit(la, rules.Call{Edits: add("n", 1)}); err != nil { // the log can still have it when it is looked for
		assert.ErrorIs(t, err, ledger.ErrUncertain)
	}
	for _, l := range []*ledger.Ledger{la, lb} {
		require.NoError(t, l.Current(t.Context()))
		_, n := count(l)
		assert.EqualValues(t, 1, n)
	}
	_, err = rules.Commit(la, rules.Call{Edits: add("n", 1)})
	require.NoError(t, err, "and it goes on")
}

// Of what made etcd full it says that there is no room, and has done it.
func TestFullAndDone(t *testing.T) {
	t.Parallel()
	s := open(t, newPrefix(), Options{})
	l := hold(t, s)
	net := &lossy{KV: s.g.c.KV}
	s.g.c.KV = net
	for i, done := range []bool{true, false, true} {
		net.full = &done
		_, err := rules.Commit(l, rules.Call{Edits: add("n", 1)})
		if done {
			require.NoError(t, err, i)
		} else {
			require.ErrorIs(t, err, ledger.ErrNotStored, i)
		}
	}
	net.full = nil
	require.NoError(t, l.Current(t.Context()))
	version, n := count(l)
	assert.Equal(t, []int64{2, 2}, []int64{version, n})
}

// What is large goes in parts, which are seen elsewhere, and swept when nothing needs them.
func TestParts(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	o := Options{ledger: ledger.Options{Every: 1}}
	a, b := open(t, prefix, o), open(t, prefix, Options{})
	la, lb := hold(t, a), hold(t, b)
	w := lb.Watch(nil, nil)
	defer w.Close()
	big := strings.Repeat("x", 1<<20-100)
	edits := func(text string) (out []entry.Edit) {
		for i := range 3 {
			out = append(out, entry.Edit{Name: fmt.Sprint("big/", i), Op: value.Op{Verb: value.Put, Operand: value.Text(text)}})
		}
		return out
	}
	_, err := rules.Commit(la, rules.Call{Edits: edits(big)})
	require.NoError(t, err)
	require.True(t, w.Wait(t.Context(), nil))
	snap := lb.Snapshot()
	got, _ := snap.Record("big/2").Value.AsText()
	snap.Release()
	assert.Equal(t, len(big), len(got))
	for i := range 6 { // until no part is left
		a.g.kept = 0
		_, err := rules.Commit(la, rules.Call{Edits: edits(fmt.Sprint(i))})
		require.NoError(t, err)
	}
	left := func(under string) int {
		resp, err := a.g.c.Get(t.Context(), under, clientv3.WithPrefix(), clientv3.WithKeysOnly())
		require.NoError(t, err)
		return len(resp.Kvs)
	}
	h, _, err := a.g.fence(t.Context(), "rowan-street")
	require.NoError(t, err)
	in := a.g.keys.of("rowan-street", h.Life)
	assert.Zero(t, left(in.parts))
	told := 0
	for _, c := range h.Checkpoints {
		told += c.Parts
	}
	assert.Len(t, h.Checkpoints, 2)
	assert.Equal(t, told, left(in.checkpoints))
	require.NoError(t, lb.Current(t.Context()))
	assert.Equal(t, la.Version(), lb.Version())
}

// A server that was away for longer than the log is kept reads the whole board, and signals its watchers.
func TestFarBehind(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	a, b := open(t, prefix, Options{ledger: ledger.Options{Every: 5}}), open(t, prefix, Options{})
	a.g.kept = 0
	la, lb := hold(t, a), hold(t, b)
	b.stop() // its feed
	b.feeds.Wait()
	require.Eventually(t, func() bool { return b.opened("rowan-street").busy.Load() == 0 }, hang.Patience, time.Millisecond)
	w := lb.Watch(nil, nil)
	defer w.Close()
	for range 50 {
		_, err := rules.Commit(la, rules.Call{Edits: add("n", 1)})
		require.NoError(t, err)
	}
	_, n := count(lb)
	assert.Zero(t, n)
	assert.Eventually(t, func() bool { return !b.Near() }, hang.Patience, 10*time.Millisecond)
	require.NoError(t, lb.Current(t.Context()))
	_, n = count(lb)
	assert.EqualValues(t, 50, n)
	assert.True(t, w.Wait(t.Context(), nil))
	_, err := rules.Commit(lb, rules.Call{Edits: add("n", 1)})
	require.NoError(t, err)
	require.NoError(t, la.Current(t.Context()))
	assert.EqualValues(t, 51, la.Version())
}

// With clocks that differ by a minute, a later commit has no earlier time.
func TestClocks(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	clock := func(by time.Duration) Options {
		return Options{ledger: ledger.Options{Now: func() time.Time { return time.Now().Add(by) }}}
	}
	a, b := open(t, prefix, clock(time.Minute)), open(t, prefix, clock(0))
	la, lb := hold(t, a), hold(t, b)
	var last time.Time
	for i := range 10 {
		l := []*ledger.Ledger{la, lb}[i%2]
		out, err := rules.Commit(l, rules.Call{Edits: add("n", 1)})
		require.NoError(t, err)
		assert.False(t, out.Entries[0].Updated.Before(last))
		last = out.Entries[0].Updated
	}
	assert.Greater(t, time.Until(last), 50*time.Second)
	entries, _, err := lb.AtTime(last)
	require.NoError(t, err)
	assert.Len(t, entries, 1)
}
