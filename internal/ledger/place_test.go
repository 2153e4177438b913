package ledger_test

import (
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
)

// process is another program on the machine's disk: what it has open is not shared.
type process struct{ journal.Disk }

// two opens a file twice, as two programs do, and returns the reported problems.
func two(t *testing.T, dir string, o ledger.Options) (one, other *ledger.Ledger) {
	t.Helper()
	open := func(disk journal.Disk) *ledger.Ledger {
		o.Disk = disk
		if o.Problem == nil {
			o.Problem = func(error) {}
		}
		l, err := ledger.Open(dir, "board", o)
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		return l
	}
	return open(journal.OS), open(&process{journal.OS})
}

// sees says that a program which opens the file now finds a value.
func sees(t *testing.T, dir, name string, n int64) {
	t.Helper()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: &process{journal.OS}, Problem: func(err error) { assert.NoError(t, err) }})
	require.NoError(t, err)
	assert.Equal(t, n, get(l, name), name)
	require.NoError(t, l.Close())
}

// Where taking in what another has written fails, nothing has moved: the next
// commit finds it again, and is not written behind a wrong version.
func TestNothingMovesBeforeItIsSynced(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	one, two := openSim(t, disk, dir), openSim(t, disk.Process(), dir)
	require.NoError(t, put(one, "n", value.Int(1)))
	require.NoError(t, put(two, "n", value.Int(2)))
	failing := ""
	disk.Fault(func(op, _ string) error {
		if op == failing {
			failing = ""
			return syscall.EIO
		}
		return nil
	})
	for i, op := range []string{"read", "look", "open", "read"} {
		require.NoError(t, put(two, "n", value.Int(int64(10+i))))
		if op == "open" {
			require.NoError(t, two.Forget()) // so that another file must be opened
		}
		failing = op
		assert.ErrorIs(t, put(one, "m", value.Int(1)), ledger.ErrNotStored, op)
		require.Empty(t, failing, "%s was met", op)
		require.NoError(t, put(one, "m", value.Int(int64(i))))
		assert.EqualValues(t, 10+i, get(one, "n"), op)
		require.NoError(t, two.Refresh())
		assert.EqualValues(t, i, get(two, "m"), op)
	}
	require.NoError(t, errors.Join(one.Close(), two.Close()))
}

// A sync of what another has written is not tried again when it has failed, since
// the second would claim success: what was written is put in a new file, before
// it is shown or anything is acknowledged behind it.
func TestSyncOfOthersLinesFails(t *testing.T) {
	t.Parallel()
	for _, looksFirst := range []bool{false, true} {
		disk, dir := simdisk.New(), t.TempDir()
		one, two := openSim(t, disk, dir), openSim(t, disk.Process(), dir)
		require.NoError(t, put(two, "n", value.Int(1)))
		require.NoError(t, one.Refresh())
		require.NoError(t, putWithin(two, time.Hour, "n", value.Int(2)), "which is not synced")
		failing, renames := true, 0
		disk.Fault(func(op, _ string) error {
			switch {
			case op == "sync" && failing:
				failing = false
				return syscall.EIO
			case op == "rename" && renames == 0:
				renames++
				return syscall.EIO
			case op == "rename":
				renames++
			}
			return nil
		})
		if looksFirst {
			assert.Error(t, one.Refresh())
			assert.Error(t, one.Refresh(), "it is not believed the second time")
			assert.EqualValues(t, 1, get(one, "n"))
		}
		assert.ErrorIs(t, put(one, "m", value.Int(3)), ledger.ErrNotStored, "the new file can't be put in place")
		assert.EqualValues(t, 1, get(one, "n"))
		require.NoError(t, put(one, "m", value.Int(4)))
		assert.Equal(t, 2, renames)
		assert.EqualValues(t, 2, get(one, "n"))
		require.NoError(t, two.Refresh())
		assert.EqualValues(t, 4, get(two, "m"))
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Synced(), Problem: func(err error) { t.Error(err) }})
		require.NoError(t, err)
		assert.Equal(t, []int64{2, 4}, []int64{get(l, "n"), get(l, "m")}, "looked first: %v", looksFirst)
		require.NoError(t, errors.Join(l.Close(), one.Close(), two.Close()))
	}
}

// Where the directory can't be synced after a compaction, nothing is
// acknowledged that a power cut would take with the new file's name.
func TestDirectorySyncOfACompactionFails(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Small: 1, Kept: 2, KeptBytes: 100, Problem: func(error) {}})
	require.NoError(t, err)
	fails, failed := true, false
	disk.Fault(func(op, _ string) error {
		if op == "syncdir" && fails {
			failed = true
			return syscall.EIO
		}
		return nil
	})
	acked := int64(0)
	for n := int64(1); n < 60; n++ {
		if put(l, "n", value.Int(n)) == nil {
			acked = n
		}
		cut, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.PowerCut(rand.New(rand.NewPCG(uint64(n), 1)), 64)})
		require.NoError(t, err)
		require.GreaterOrEqual(t, get(cut, "n"), acked)
		require.NoError(t, cut.Close())
	}
	assert.True(t, failed)
	fails = false
	require.NoError(t, put(l, "n", value.Int(100)))
	require.NoError(t, l.Close())
}

// A compaction that fails leaves nothing behind, and one that finds something
// under its name does not write into it.
func TestNewFileOfACompaction(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Small: 1, Kept: 2, KeptBytes: 100, Problem: func(error) {}})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(1)))
	rewriting, failed := false, 0 // the next write is the new file's
	disk.Fault(func(op, path string) error {
		switch {
		case op == "open" && strings.HasSuffix(path, ".new"):
			rewriting = true
		case op == "write" && rewriting:
			rewriting = false
			failed++
			return syscall.ENOSPC
		}
		return nil
	})
	for n := range int64(60) {
		require.NoError(t, put(l, "n", value.Int(n)))
	}
	assert.Positive(t, failed)
	assert.Nil(t, disk.Read(filepath.Join(dir, ".board.new")))
	require.NoError(t, l.Close())

	real, victim := t.TempDir(), filepath.Join(t.TempDir(), "victim")
	require.NoError(t, os.WriteFile(victim, []byte("mine"), 0o600))
	require.NoError(t, os.Symlink(victim, filepath.Join(real, ".board.new")))
	l, err = ledger.Open(real, "board", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, l.Forget())
	require.NoError(t, l.Close())
	left, err := os.ReadFile(victim)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(left))
	sees(t, real, "n", 1)
}

// Looking back holds no writer up, and is not disturbed by a compaction.
func TestLookingBackWhileCompacting(t *testing.T) {
	t.Parallel()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Small: 1, Kept: 30, KeptBytes: 4 << 10})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(0)))
	done := make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		defer close(done)
		for n := range int64(3000) {
			assert.NoError(t, putWithin(l, 1<<40, "n", value.Int(n+1)))
		}
	})
	looked := 0
	for over := false; !over; looked++ {
		select {
		case <-done:
			over = true
		default:
		}
		version := l.Version()
		entries, err := l.At(version)
		if errors.Is(err, ledger.ErrTooOld) {
			continue // many came meanwhile
		}
		require.NoError(t, err)
		require.Len(t, entries, 1, "an empty answer is none")
		n, _ := entries[0].Value.AsInt()
		require.EqualValues(t, version-1, n)
		past, err := l.History(3)
		require.NoError(t, err)
		require.NotEmpty(t, past)
	}
	all.Wait()
	assert.Greater(t, looked, 5)
	require.NoError(t, l.Close())
}

// A line made for it does not take long to be told from a torn end.
func TestLineMadeToTakeLong(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, l.Close())
	f, err := os.OpenFile(filepath.Join(dir, "board.jsonl"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = io.WriteString(f, strings.Repeat(`{"version":`, 1<<20)+"\n") // 11 MiB
	require.NoError(t, errors.Join(err, f.Close()))
	finished := make(chan error, 1)
	go func() {
		l, err := ledger.Open(dir, "board", ledger.Options{Problem: func(error) {}})
		if err == nil {
			err = l.Close()
		}
		finished <- err
	}()
	require.NoError(t, <-finished)
}
