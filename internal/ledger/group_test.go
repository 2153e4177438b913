package ledger_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
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

// A removed name is reported for 7 days, also after a compaction and a restart. Then it is forgotten, and
// oldest is the first version whose changes are known.
func TestTombstones(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	open := func() *ledger.Ledger {
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Small: 1, Kept: 2, KeptBytes: 100, Now: func() time.Time { return now }})
		require.NoError(t, err)
		return l
	}
	l := open()
	require.NoError(t, put(l, "gone", value.Int(1)))
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop("gone"); return nil })
	require.NoError(t, err)
	told := func(since int64) bool {
		s := l.Snapshot()
		defer s.Release()
		for e := range s.Changed(since, "", "") {
			if e.Name == "gone" {
				assert.False(t, e.Found())
				return true
			}
		}
		return false
	}
	busy := func() { // until the file was compacted
		for {
			size := len(disk.Read(l.Path()))
			require.NoError(t, put(l, "n", value.Int(rand.Int64())))
			if len(disk.Read(l.Path())) < size {
				return
			}
		}
	}
	busy()
	require.NoError(t, l.Close())
	l = open()
	assert.True(t, told(1), "a compaction keeps it")
	assert.Zero(t, l.Oldest())
	now = now.Add(6 * 24 * time.Hour)
	busy()
	require.NoError(t, l.Close())
	l = open()
	assert.True(t, told(1), "for a week")
	now = now.Add(2 * 24 * time.Hour)
	busy()
	require.NoError(t, l.Close())
	l = open()
	assert.False(t, told(1), "after a week it is forgotten")
	assert.EqualValues(t, 2, l.Oldest(), "and a reader before that version needs the whole")
	require.NoError(t, l.Close())
}

// So many may wait and no more: the next is refused at once, and those who
// wait are served.
func TestQueueIsBounded(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testQueueIsBounded)
}

func testQueueIsBounded(t *testing.T) {
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New(), Wait: time.Minute})
	require.NoError(t, err)
	started, goOn := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		_, err := l.Commit(entry.Author{}, func(*ledger.Tx) error { close(started); <-goOn; return nil })
		assert.NoError(t, err)
	})
	<-started
	for i := range ledger.MaxQueue {
		all.Go(func() { assert.NoError(t, put(l, fmt.Sprint("n", i%7), value.Int(int64(i)))) })
	}
	untilWaiting(l, ledger.MaxQueue)
	assert.ErrorIs(t, put(l, "n", value.Int(1)), journal.ErrBusy)
	close(goOn)
	all.Wait()
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, l.Close())
}

// A commit in the queue waits for all of the time that is allowed, and not for
// what those before it have waited.
func TestWaitIsNotCutShort(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testWaitIsNotCutShort)
}

func testWaitIsNotCutShort(t *testing.T) {
	const wait = 200 * time.Millisecond
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New(), Wait: wait})
	require.NoError(t, err)
	started, goOn := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		_, err := l.Commit(entry.Author{}, func(*ledger.Tx) error { close(started); <-goOn; return nil })
		assert.NoError(t, err)
	})
	<-started
	for range 4 {
		all.Go(func() {
			came := time.Now()
			assert.ErrorIs(t, put(l, "late", value.Int(1)), journal.ErrBusy)
			assert.GreaterOrEqual(t, time.Since(came), wait)
		})
		time.Sleep(wait / 4)
	}
	for l.Waiting() > 0 {
		time.Sleep(time.Millisecond)
	}
	close(goOn)
	all.Wait()
	require.NoError(t, l.Close())
}

// A judge that panics, or ends its goroutine, leaves no state behind. Waiting callers are answered, and
// commits succeed.
func TestJudgeThatEnds(t *testing.T) {
	t.Parallel()
	l := openSim(t, simdisk.New(), t.TempDir())
	require.NoError(t, put(l, "n", value.Int(1)))
	for range 3 {
		gone := make(chan struct{})
		go func() {
			defer close(gone)
			_, _ = l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
				enc, _ := ledger.Encode(value.Int(99))
				tx.Put("n", enc)
				runtime.Goexit()
				return nil
			})
		}()
		<-gone
		errs := together(l, func() {}, func() error { return put(l, "m", value.Int(2)) }, func() error {
			done := make(chan struct{})
			go func() {
				defer close(done)
				_, _ = l.Commit(entry.Author{}, func(*ledger.Tx) error { runtime.Goexit(); return nil })
			}()
			<-done
			return nil
		})
		if errs[0] != nil {
			assert.ErrorIs(t, errs[0], ledger.ErrNotStored)
		}
		require.NoError(t, put(l, "m", value.Int(3)))
		assert.Equal(t, []int64{1, 3}, []int64{get(l, "n"), get(l, "m")})
		require.NoError(t, put(l, "m", value.Int(4)))
	}
	require.NoError(t, l.Close())
}

// A caller that waits for the lock of another process waits for the allowed time. So does each later caller,
// from its own start.
func TestBusyLock(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testBusyLock)
}

func testBusyLock(t *testing.T) {
	const wait = 150 * time.Millisecond
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Wait: wait})
	require.NoError(t, err)
	f, err := journal.Attach(journal.OS, dir, "board", false)
	require.NoError(t, err)
	require.NoError(t, f.Lock(true, time.Second))
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			came := time.Now()
			assert.ErrorIs(t, put(l, "n", value.Int(1)), journal.ErrBusy)
			assert.GreaterOrEqual(t, time.Since(came), wait)
			assert.Less(t, time.Since(came), 20*wait, "nor for what the others wait")
		})
		time.Sleep(wait / 3)
	}
	all.Wait()
	ctx, cancel := context.WithCancel(t.Context())
	w := l.Watch(nil, nil)
	cancel()
	assert.False(t, w.Wait(ctx, nil))
	w.Close()
	require.NoError(t, f.Unlock())
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, errors.Join(l.Close(), f.Close()))
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

// What changed is found in the ring where it reaches back, and else among all.
func TestChangedBeyondTheRing(t *testing.T) {
	t.Parallel()
	l := openSim(t, simdisk.New(), t.TempDir())
	for commit := range 6 { // of 1,000 names each: more than a ring holds
		_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
			for i := range 1000 {
				enc, _ := ledger.Encode(value.Int(int64(commit)))
				tx.Put(fmt.Sprintf("n%d", (commit*1000+i)%5500), enc)
			}
			return nil
		})
		require.NoError(t, err)
	}
	s := l.Snapshot()
	defer s.Release()
	for since := range int64(7) {
		want, n := map[string]bool{}, 0
		for e := range s.All() {
			if e.Version > since {
				want[e.Name] = true
			}
		}
		before := ""
		for e := range s.Changed(since, "", "") {
			assert.True(t, want[e.Name], "%s since %d", e.Name, since)
			assert.Less(t, before, e.Name)
			before = e.Name
			n++
		}
		assert.Len(t, want, n, "since %d", since)
	}
	require.NoError(t, put(l, "n1", value.Int(99)))
	for e := range s.Changed(5, "n1", "") {
		n, _ := e.Value.AsInt()
		assert.NotEqualValues(t, 99, n, "a snapshot stays as it was")
	}
	require.NoError(t, l.Close())
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

// The size that a commit would make is kept up, and is that of all there is.
func TestSizeIsKeptUp(t *testing.T) {
	t.Parallel()
	l := openSim(t, simdisk.New(), t.TempDir())
	rng := rand.New(rand.NewPCG(1, 2))
	sum := func() (n int64) {
		s := l.Snapshot()
		defer s.Release()
		for e := range s.Entries("", "") {
			n += int64(len(e.Name) + len(e.Value.AppendJSON(nil)))
		}
		return n
	}
	for range 200 {
		var told int64
		change := func() error {
			_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
				if rng.IntN(2) == 0 {
					tx.Size() // from here on it is kept up
				}
				for range rng.IntN(4) {
					name := fmt.Sprint("n", rng.IntN(9))
					if rng.IntN(3) == 0 {
						tx.Drop(name)
						continue
					}
					enc, _ := ledger.Encode(value.Text(fmt.Sprint(rng.Int64(), "\"ä\n")))
					tx.Put(name, enc)
				}
				told = tx.Size()
				return nil
			})
			return err
		}
		if rng.IntN(5) == 0 {
			for _, err := range together(l, func() {}, change, change) {
				require.NoError(t, err)
			}
		} else {
			require.NoError(t, change())
		}
		require.Equal(t, sum(), told)
	}
	require.NoError(t, l.Close())
}

// Who follows another's commits one by one keeps of each what it sets, and no room for more.
func TestFollowingTakesLittle(t *testing.T) {
	disk, dir := simdisk.New(), t.TempDir()
	l, other := openSim(t, disk, dir), openSim(t, disk.Process(), dir)
	heap := func() int64 {
		runtime.GC()
		runtime.GC() // what the first one let go of
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before := heap()
	const names = 1000
	for i := range names {
		require.NoError(t, putWithin(l, time.Hour, fmt.Sprint("beds/", i), value.Int(int64(i))))
		require.NoError(t, other.Refresh())
	}
	assert.Less(t, heap()-before, int64(names*4<<10), "of both, and their disk")
	assert.EqualValues(t, names-1, get(other, fmt.Sprint("beds/", names-1)))
	require.NoError(t, l.Close())
	require.NoError(t, other.Close())
}

// Removed names leave only their tombstones in the file and in memory. Names that were only asked for leave
// nothing.
func TestNothingGrowsWithDeadNames(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Now: func() time.Time { return now }})
	require.NoError(t, err)
	count := func() (n int) {
		for range l.Nodes() {
			n++
		}
		return n
	}
	bound := l.Node("plantings/7")
	largest := 0
	for i := range 30_000 {
		name := fmt.Sprint("plantings/", i)
		require.NoError(t, putWithin(l, time.Hour, name, value.Int(int64(i))))
		_, err := l.CommitWithin(time.Hour, entry.Author{}, ledger.JudgeFunc(func(tx *ledger.Tx) error { tx.Drop(name); return nil }))
		require.NoError(t, err)
		if i%500 == 0 {
			largest = max(largest, len(disk.Read(l.Path())))
		}
	}
	assert.Less(t, largest, 2<<20)
	assert.Less(t, count(), 20_000, "10,000 are told, and those since the last compaction")
	assert.Same(t, bound, l.Node("plantings/7"))
	now = now.Add(8 * 24 * time.Hour)
	for i := range 3000 {
		require.NoError(t, putWithin(l, time.Hour, "n", value.Text(strings.Repeat(fmt.Sprint(i%10), 1000))))
	}
	told := count()
	assert.Less(t, told, 256<<10/150, "those whose past is still kept, in 256 KiB")
	assert.Less(t, len(disk.Read(l.Path())), 1<<20)
	for i := range 1000 {
		assert.Nil(t, l.Find(fmt.Sprint("asked/", i)))
	}
	assert.Equal(t, told, count())
	// Who has a node that was forgotten writes to the one that is there now.
	require.NoError(t, put(l, "plantings/7", value.Int(1)))
	n, _ := bound.Record().Value.AsInt()
	assert.EqualValues(t, 1, n, "a bound one is never forgotten")
	require.NoError(t, l.Close())
}
