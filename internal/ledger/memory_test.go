package ledger_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
