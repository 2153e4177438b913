package ledger_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
)

// untilWaiting waits until n commits are in the queue. It polls, since a ledger does not signal its queue.
func untilWaiting(l *ledger.Ledger, n int) {
	for l.Waiting() < n {
		time.Sleep(time.Microsecond)
	}
}

// together makes commits in one group, in order: they queue behind one that
// takes until all are there. between runs before they are let go.
func together(l *ledger.Ledger, between func(), commits ...func() error) []error {
	started, goOn := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		_, _ = l.Commit(entry.Author{}, func(*ledger.Tx) error { close(started); <-goOn; return nil })
	})
	<-started
	errs := make([]error, len(commits))
	for i, commit := range commits {
		all.Go(func() { errs[i] = commit() })
		untilWaiting(l, i+1)
	}
	between()
	close(goOn)
	all.Wait()
	return errs
}

func openSim(t *testing.T, disk journal.Disk, dir string) *ledger.Ledger {
	t.Helper()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
	require.NoError(t, err)
	return l
}

// Whether something changes is judged against what those before in the group
// leave, not against what is visible.
func TestNoChangeWithinAGroup(t *testing.T) {
	t.Parallel()
	l := openSim(t, simdisk.New(), t.TempDir())
	require.NoError(t, put(l, "x", value.Int(1)))
	set := func(n int64) func() error { return func() error { return put(l, "x", value.Int(n)) } }
	for _, err := range together(l, func() {}, set(2), set(1)) {
		require.NoError(t, err)
	}
	assert.EqualValues(t, 1, get(l, "x"), "the second is a change, back to what was")
	assert.EqualValues(t, 3, l.Version())
	for _, err := range together(l, func() {}, set(2), set(2)) {
		require.NoError(t, err)
	}
	assert.EqualValues(t, 4, l.Version(), "and here it is none")
	require.NoError(t, l.Close())
}

// What changed nothing rests on a commit of its group that was not stored: it
// was not stored either.
func TestNoChangeInAFailedGroup(t *testing.T) {
	t.Parallel()
	disk := simdisk.New()
	l := openSim(t, disk, t.TempDir())
	set := func() error { return put(l, "x", value.Int(7)) }
	for _, err := range together(l, func() { disk.Space(0) }, set, set) {
		assert.ErrorIs(t, err, ledger.ErrNotStored)
	}
	disk.Space(-1)
	assert.EqualValues(t, 0, l.Version())
	require.NoError(t, l.Close())
}

// Each change of a large commit is found again.
func TestManyChangesInOneCommit(t *testing.T) {
	t.Parallel()
	l := openSim(t, simdisk.New(), t.TempDir())
	for n := range 40 {
		want := map[string]int64{}
		_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
			for _, name := range tx.Names() {
				tx.Drop(name)
			}
			for i := range n { // each twice, so that the second finds the first
				for round := range int64(2) {
					name := fmt.Sprint("n", i)
					enc, _ := ledger.Encode(value.Int(int64(i) + 100*round))
					tx.Put(name, enc)
					want[name] = int64(i) + 100*round
					for name, x := range want {
						have, _ := tx.Value(name).AsInt()
						require.Equal(t, x, have, "%s of %d", name, n)
					}
				}
			}
			return nil
		})
		require.NoError(t, err)
		s := l.Snapshot()
		assert.Equal(t, want, collect(s), "%d names", n)
		s.Release()
	}
	require.NoError(t, l.Close())
}

// What another process has written and not synced is synced before it is
// shown: where that fails, it is not shown.
func TestOthersLinesAreSyncedBeforeTheyAreShown(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	one, two := openSim(t, disk, dir), openSim(t, disk.Process(), dir)
	require.NoError(t, putWithin(two, time.Hour, "n", value.Int(1)), "which is not synced")
	syncs := 0
	disk.Fault(func(op, _ string) error {
		if op == "sync" {
			syncs++
		}
		return nil
	})
	require.NoError(t, one.Refresh())
	assert.EqualValues(t, 1, get(one, "n"))
	assert.Equal(t, 1, syncs)
	require.NoError(t, putWithin(two, time.Hour, "n", value.Int(2)))
	disk.Fault(func(op, _ string) error {
		if op == "sync" {
			return syscall.EIO
		}
		return nil
	})
	assert.Error(t, one.Refresh())
	assert.EqualValues(t, 1, get(one, "n"))
	disk.Kill()
	_, _ = one.Close(), two.Close() // they are dead
}

// With prompt lines that are not synced, a full disk at a sync leaves the file uncertain. Everything that
// was shown is written again.
func TestFullDiskAtASyncWithPromptLines(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l := openSim(t, disk, dir)
	require.NoError(t, putWithin(l, time.Hour, "a", value.Int(1)))
	failed := false
	disk.Fault(func(op, _ string) error {
		if op == "sync" && !failed {
			failed = true
			return syscall.ENOSPC
		}
		return nil
	})
	require.ErrorIs(t, put(l, "b", value.Int(2)), ledger.ErrNotStored)
	require.NoError(t, l.Flush())
	disk.Kill()
	_ = l.Close()
	for i := range uint64(10) {
		l := openSim(t, disk.PowerCut(rand.New(rand.NewPCG(i, 1)), 64), dir)
		assert.Equal(t, []int64{1, 0}, []int64{get(l, "a"), get(l, "b")})
		require.NoError(t, l.Close())
	}
}

// A file whose maker died before its name was synced is there after a power
// cut, once another process has stored something in it.
func TestNameOfANewFileIsSynced(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	disk.Fault(func(op, _ string) error {
		if op == "syncdir" {
			return simdisk.ErrDead
		}
		return nil
	})
	_, err := ledger.Open(dir, "board", ledger.Options{Disk: disk})
	require.ErrorIs(t, err, simdisk.ErrDead)
	disk = disk.Restarted()
	l := openSim(t, disk, dir)
	require.NoError(t, put(l, "n", value.Int(1)))
	disk.Kill()
	_ = l.Close()
	for i := range uint64(20) {
		l := openSim(t, disk.PowerCut(rand.New(rand.NewPCG(i, 1)), 64), dir)
		assert.EqualValues(t, 1, get(l, "n"))
		require.NoError(t, l.Close())
	}
}

// If an older file replaces the file, versions lose their meaning. Followers get all entries.
func TestFollowingOverAnOlderFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l := openSim(t, nil, dir)
	require.NoError(t, put(l, "a", value.Int(1)))
	older, err := os.ReadFile(l.Path())
	require.NoError(t, err)
	require.NoError(t, put(l, "b", value.Int(2)))
	require.NoError(t, put(l, "a", value.Int(3)))
	s := l.Snapshot()
	at := s.Point()
	s.Release()
	require.NoError(t, os.WriteFile(l.Path()+".older", older, 0o600))
	require.NoError(t, os.Rename(l.Path()+".older", l.Path()))
	require.NoError(t, l.Refresh())
	require.NoError(t, put(l, "c", value.Int(4)))
	s = l.Snapshot()
	defer s.Release()
	told := map[string]bool{}
	for e := range s.Since(at) {
		told[e.Name] = e.Found()
	}
	assert.Equal(t, map[string]bool{"a": true, "b": false, "c": true}, told)
	require.NoError(t, l.Close())
}
