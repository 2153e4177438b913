package ledger_test

import (
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
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

// keeping commits with a receipt.
func keeping(t *testing.T, l *ledger.Ledger, r ledger.Receipt, name string, n int64) {
	t.Helper()
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		enc, err := ledger.Encode(value.Int(n))
		tx.Put(name, enc)
		tx.Keep(r)
		return err
	})
	require.NoError(t, err)
}

// receipt returns the stored receipt, and the version up to which those of its client were dropped.
func receipt(t *testing.T, l *ledger.Ledger, instance, key string) (r *ledger.Receipt, upTo int64) {
	t.Helper()
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error { r, upTo = tx.Receipt("", instance, key); return nil })
	require.NoError(t, err)
	return r, upTo
}

// Receipts are kept for seven days, 1,000 of a client, 4 MiB of a board, the oldest going
// first; how far they were dropped is known, also to who opens the file.
func TestReceiptsThatAreDropped(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	open := func() *ledger.Ledger {
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Now: func() time.Time { return now }, Marks: 10, Small: 1, Kept: 3, KeptBytes: 1})
		require.NoError(t, err)
		return l
	}
	l := open()
	again := func() {
		t.Helper()
		require.NoError(t, l.Close())
		l = open()
	}
	is := func(kept bool, dropped int64, instance, key string) {
		t.Helper()
		for _, when := range []string{"while it is open", "opened again"} {
			r, upTo := receipt(t, l, instance, key)
			assert.Equal(t, []any{kept, dropped}, []any{r != nil, upTo}, "%s %s %s", instance, key, when)
			again()
		}
	}
	large := strings.Repeat("x", 40<<10)
	for i := range 60 { // versions 1 to 60; what doesn't fit in 4 MiB comes below
		keeping(t, l, ledger.Receipt{Instance: "a", Key: fmt.Sprint(i), Hash: large}, "n", int64(i+1))
	}
	is(true, 0, "a", "0")
	is(true, 0, "a", "59")
	for i := range 60 { // 61 to 120
		keeping(t, l, ledger.Receipt{Instance: "b", Key: fmt.Sprint(i), Hash: large}, "n", int64(i+100))
	}
	const room = 101 // receipts that fit in 4 MiB
	is(false, 120-room, "a", "0")
	is(false, 120-room, "a", "18")
	is(true, 120-room, "a", "19")
	is(true, 120-room, "b", "59")
	now = now.Add(7*24*time.Hour - time.Millisecond)
	is(true, 120-room, "a", "19")
	now = now.Add(2 * time.Millisecond)
	is(false, 120, "b", "59")
	for i := range 1001 { // 121 to 1121
		keeping(t, l, ledger.Receipt{Instance: "c", Key: fmt.Sprint(i), Hash: "5a"}, "n", int64(i+1000))
	}
	is(false, 121, "c", "0")
	is(true, 121, "c", "1")
	is(false, 120, "d", "0")
	keeping(t, l, ledger.Receipt{Instance: "d", Key: "1", Hash: "1"}, "n", 1) // 1122
	keeping(t, l, ledger.Receipt{Instance: "d", Key: "1", Hash: "2"}, "n", 2) // under a key once more, as after it was dropped
	r, _ := receipt(t, l, "d", "1")
	assert.Equal(t, "2", r.Hash)

	// The file is no longer than what it must keep, receipts counted in.
	size := len(disk.Read(journal.DataPath(dir, "board")))
	for i := range 2000 {
		require.NoError(t, put(l, "n", value.Int(int64(i))))
	}
	assert.Less(t, len(disk.Read(journal.DataPath(dir, "board"))), 8*size)
	is(true, 121, "c", "1")

	// A receipt has what was taken out of an entry. Forget removes that too.
	keeping(t, l, ledger.Receipt{Instance: "d", Key: "take", Hash: "1", Taken: []byte(`["rhubarb"]`)}, "q", 1)
	keeping(t, l, ledger.Receipt{Instance: "d", Key: "other", Hash: "1", Taken: []byte(`["C4"]`)}, "p", 1)
	version := l.Version()
	assert.Contains(t, string(disk.Read(journal.DataPath(dir, "board"))), "rhubarb")
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop("q"); return nil })
	require.NoError(t, err)
	require.NoError(t, l.Forget("q"))
	assert.NotContains(t, string(disk.Read(journal.DataPath(dir, "board"))), "rhubarb")
	is(false, version, "d", "take")
	is(false, version, "d", "other") // its commit is not known
	is(true, version, "d", "1")
	require.NoError(t, l.Forget())
	is(false, l.Version(), "d", "1")
	require.NoError(t, l.Close())
}

// From where on changes can be told is where marks begin.
func TestMarksBeginWhereChangesCanBeTold(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Now: func() time.Time { return now }, Marks: 1000, Small: 1, KeptBytes: 1})
	require.NoError(t, err)
	require.NoError(t, put(l, "a", value.Int(1)))
	_, err = l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop("a"); return nil })
	require.NoError(t, err)
	_, known := l.CommitAt(1)
	assert.True(t, known)
	now = now.Add(8 * 24 * time.Hour) // what was removed is not told any more
	for i := range 200 {
		require.NoError(t, put(l, "n", value.Int(int64(i))))
	}
	require.Greater(t, l.Oldest(), int64(1), "the file was rewritten")
	_, known = l.CommitAt(1)
	assert.False(t, known, "a reader at that version would not learn that a is gone")
	_, known = l.CommitAt(l.Oldest())
	assert.True(t, known)
	require.NoError(t, l.Close())
}

// Commits of one group see what those before them keep and close.
func TestReceiptsInOneGroup(t *testing.T) {
	t.Parallel()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New(), Marks: 10})
	require.NoError(t, err)
	started, goOn := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		_, err := l.Commit(entry.Author{}, func(*ledger.Tx) error { close(started); <-goOn; return nil })
		assert.NoError(t, err)
	})
	<-started
	var done, closed atomic.Int64
	const each = 5
	for range each {
		all.Go(func() {
			_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
				if r, _ := tx.Receipt("", "a", "1"); r == nil {
					done.Add(1)
					enc, err := ledger.Encode(value.Int(done.Load()))
					assert.NoError(t, err)
					tx.Put("n", enc)
					tx.Keep(ledger.Receipt{Instance: "a", Key: "1"})
				}
				return nil
			})
			assert.NoError(t, err)
		})
		all.Go(func() {
			result, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.CloseKeys(true); return nil })
			assert.NoError(t, err)
			if result.Changed {
				closed.Add(1)
			}
		})
	}
	untilWaiting(l, 2*each)
	close(goOn)
	all.Wait()
	assert.Equal(t, []int64{1, 1, 2}, []int64{done.Load(), closed.Load(), l.Version()})
	require.NoError(t, l.Close())
}

// Receipts of commits that were merged into one line stand on that.
func TestReceiptsOfMergedCommits(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testReceiptsOfMergedCommits)
}

func testReceiptsOfMergedCommits(t *testing.T) {
	disk, dir := simdisk.New(), t.TempDir()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	o := ledger.Options{Disk: disk, Now: func() time.Time { return now }, Marks: 1000, Small: 1, Kept: 3}
	l, err := ledger.Open(dir, "board", o)
	require.NoError(t, err)
	require.NoError(t, put(l, "first", value.Int(1)))
	const times = 300
	for i := range times {
		keeping(t, l, ledger.Receipt{Instance: "a", Key: fmt.Sprint(i), Hash: "5a"}, "n", int64(i))
	}
	for i := range 2000 {
		require.NoError(t, put(l, "busy", value.Int(int64(i))))
	}
	require.NoError(t, l.Close())
	file := string(disk.Read(journal.DataPath(dir, "board")))
	assert.Contains(t, file, `"base":0`)
	assert.Regexp(t, `"over":\d{3,}.*"receipts":\[\{"key":"0"`, file)
	l, err = ledger.Open(dir, "board", o)
	require.NoError(t, err)
	for i := range times {
		r, _ := receipt(t, l, "a", fmt.Sprint(i))
		require.NotNil(t, r, i)
		require.Equal(t, []int64{int64(i + 2), now.UnixMilli()}, []int64{r.Version, r.At})
	}
	require.NoError(t, l.Close())
}
