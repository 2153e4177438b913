package ledger_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
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

func drop(l *ledger.Ledger, name string) error {
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop(name); return nil })
	return err
}

// A name that was dropped and created again comes last in the order of records, for every reader,
// also if both commits became one line.
func TestOrderOutlivesCompaction(t *testing.T) {
	t.Parallel()
	for _, puts := range []int{0, 1, 3, 6} {
		for _, kept := range []int{1, 2, 5} {
			dir := t.TempDir()
			o := ledger.Options{Small: 1, Kept: kept, KeptBytes: 1500}
			l, err := ledger.Open(dir, "board", o)
			require.NoError(t, err)
			require.NoError(t, put(l, "alpha", value.Int(1)))
			require.NoError(t, put(l, "beta", value.Int(1)))
			require.NoError(t, drop(l, "alpha"))
			for n := range puts + 1 {
				require.NoError(t, put(l, "alpha", value.Int(int64(n))))
			}
			for n := range int64(60) {
				require.NoError(t, put(l, "filler", value.Int(n)))
				if n%10 == 0 {
					fresh, err := ledger.Open(dir, "board", ledger.Options{Disk: &process{journal.OS}, ReadOnly: true})
					require.NoError(t, err)
					{
						assert.Equal(t, order(l), order(fresh), "puts %d, kept %d, filler %d", puts, kept, n)
						require.NoError(t, fresh.Close())
					}
				}
			}
			before := order(l)
			assert.Greater(t, before["alpha"], before["beta"])
			require.NoError(t, l.Close())
			l, err = ledger.Open(dir, "board", o)
			require.NoError(t, err)
			assert.Equal(t, before, order(l), "puts %d, kept %d", puts, kept)
			require.NoError(t, l.Close())
		}
	}
}

// seal puts a sealed value over what a name holds.
func seal(l *ledger.Ledger, name string) (ledger.Result, error) {
	return l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		enc, err := ledger.Encode(value.Sealed([]byte("sealed")))
		tx.Put(name, enc)
		return err
	})
}

// dutiesOf collects duties that failed.
func dutiesOf(failed *[]error) func(error) {
	return func(err error) {
		if errors.As(err, new(*ledger.DutyError)) {
			*failed = append(*failed, err)
		}
	}
}

// What a commit has to erase is erased by a later commit, or by the next program that opens the
// file, if the rewriting fails or the process dies.
func TestDutyIsRetried(t *testing.T) {
	t.Parallel()
	secret := "rhubarb"
	erase := map[string]func(l *ledger.Ledger) (ledger.Result, error){
		"sealing": func(l *ledger.Ledger) (ledger.Result, error) { return seal(l, "gate") },
		"forgetting": func(l *ledger.Ledger) (ledger.Result, error) {
			return l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop("gate"); tx.Owe("gate"); return nil })
		},
		"resetting": func(l *ledger.Ledger) (ledger.Result, error) {
			return l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
				for _, name := range tx.Names() {
					tx.Drop(name)
				}
				tx.OweAll()
				return nil
			})
		},
	}
	for name, act := range erase {
		for _, cause := range []error{syscall.ENOSPC, syscall.EIO, simdisk.ErrDead} {
			dir, disk := t.TempDir(), simdisk.New()
			var failed []error
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: dutiesOf(&failed)})
			require.NoError(t, err)
			require.NoError(t, put(l, "gate", value.Text(secret)))
			require.NoError(t, put(l, "gate", value.Text(secret+"!")))
			disk.Fault(func(op, path string) error {
				if op == "open" && strings.HasSuffix(path, ".new") {
					return cause
				}
				return nil
			})
			result, err := act(l)
			require.NoError(t, err, "%s, %v: the commit is stored", name, cause)
			assert.ErrorIs(t, result.Duty, cause, name)
			assert.Len(t, failed, 1, "and a problem is reported")
			assert.NotEmpty(t, l.Owed(), name)
			assert.Contains(t, string(disk.Read(l.Path())), secret)
			if cause != simdisk.ErrDead {
				require.NoError(t, put(l, "other", value.Int(1)))
				assert.Contains(t, string(disk.Read(l.Path())), secret, "it is not tried at once")
			}
			_ = l.Close()
			again, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Restarted(), Problem: func(err error) { t.Error(err) }})
			require.NoError(t, err)
			assert.Empty(t, again.Owed(), name)
			_, err = again.History(0)
			require.NoError(t, err)
			require.NoError(t, again.Close())
			disk = disk.Restarted()
			_, err = ledger.Open(dir, "board", ledger.Options{Disk: disk})
			require.NoError(t, err)
			assert.NotContains(t, string(disk.Read(again.Path())), secret, "%s, %v", name, cause)
			assert.NotContains(t, string(disk.Read(again.Path())), "owes")
		}
	}
}

// A duty that failed for lack of space is done by the next commit for which there is room.
func TestDutyWaitsForSpace(t *testing.T) {
	t.Parallel()
	dir, disk := t.TempDir(), simdisk.New()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
	require.NoError(t, err)
	require.NoError(t, put(l, "gate", value.Text("rhubarb")))
	disk.Space(400) // enough for the commit, not for another file
	result, err := seal(l, "gate")
	require.NoError(t, err)
	require.ErrorIs(t, result.Duty, syscall.ENOSPC)
	disk.Space(1 << 20)
	require.NoError(t, put(l, "other", value.Int(1)))
	assert.Empty(t, l.Owed())
	assert.NotContains(t, string(disk.Read(l.Path())), "rhubarb")
	require.NoError(t, l.Close())
}

// Another process that reads the line of a duty does it before its own next commit.
func TestDutyOfAnotherProcess(t *testing.T) {
	t.Parallel()
	dir, disk := t.TempDir(), simdisk.New()
	other := openSim(t, disk.Process(), dir)
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
	require.NoError(t, err)
	require.NoError(t, put(l, "gate", value.Text("rhubarb")))
	disk.Fault(func(op, path string) error {
		if op == "rename" {
			return simdisk.ErrDead
		}
		return nil
	})
	_, err = seal(l, "gate")
	require.NoError(t, err)
	require.Contains(t, string(disk.Read(l.Path())), "rhubarb")
	require.NoError(t, put(other, "n", value.Int(1)))
	require.NoError(t, put(other, "n", value.Int(2)))
	assert.NotContains(t, string(disk.Process().Read(l.Path())), "rhubarb")
	require.NoError(t, other.Close())
}

// A process that dies between the rename of a compaction and the sync of the directory leaves a file
// that the next process does not rely on before it has synced the directory.
func TestEntryOfADeadProcess(t *testing.T) {
	t.Parallel()
	for name, confirm := range map[string]func(l *ledger.Ledger, n int64) error{
		"a Set of the stored value": func(l *ledger.Ledger, n int64) error { return put(l, "n", value.Int(n)) },
		"a Flush":                   func(l *ledger.Ledger, _ int64) error { return l.Flush() },
	} {
		dir, disk := t.TempDir(), simdisk.New()
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
		require.NoError(t, err)
		disk.Fault(func(op, _ string) error {
			if op == "syncdir" {
				return simdisk.ErrDead
			}
			return nil
		})
		for n := range int64(3) {
			require.NoError(t, putWithin(l, time.Hour, "n", value.Int(n)))
		}
		assert.Error(t, l.Forget("nothing")) // writes a new file, and dies before it is durable
		next := openSim(t, disk.Process(), dir)
		require.NoError(t, confirm(next, 2), name)
		cut := openSim(t, disk.Synced(), dir)
		assert.EqualValues(t, 2, get(cut, "n"), name)
		require.NoError(t, errors.Join(next.Close(), cut.Close()))
	}
}

// A directory whose creator died before it was durable is made durable by the next Open.
func TestDirectoryOfADeadProcess(t *testing.T) {
	t.Parallel()
	root, disk := t.TempDir(), simdisk.New()
	dir := filepath.Join(root, "garden", "phone")
	dying := disk.Process()
	dying.Fault(func(op, _ string) error {
		if op == "syncdir" {
			return simdisk.ErrDead
		}
		return nil
	})
	_, err := ledger.Open(dir, "board", ledger.Options{Disk: dying})
	require.Error(t, err)
	require.DirExists(t, filepath.Join(root, "garden"))
	l := openSim(t, disk, dir)
	require.NoError(t, put(l, "n", value.Int(7)))
	cut := openSim(t, disk.Synced(), dir)
	assert.EqualValues(t, 7, get(cut, "n"))
	require.NoError(t, errors.Join(l.Close(), cut.Close()))
}

// A sync of a directory that failed is not believed when it is repeated: the file is renamed again.
func TestFailedDirectorySyncIsNotBelieved(t *testing.T) {
	t.Parallel()
	dir, disk := t.TempDir(), simdisk.New()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(1)))
	fails := true
	disk.Fault(func(op, _ string) error {
		if op == "syncdir" && fails {
			fails = false
			return syscall.EIO
		}
		return nil
	})
	require.Error(t, l.Forget("nothing"))
	for n := int64(2); n < 5; n++ {
		require.NoError(t, put(l, "n", value.Int(n)))
		cut := openSim(t, disk.Synced(), dir)
		require.EqualValues(t, n, get(cut, "n"))
		require.NoError(t, cut.Close())
	}
	require.NoError(t, l.Close())
}

// With any clock, a commit is read again, and a version has an end.
func TestClockAndVersionsAtTheirEnds(t *testing.T) {
	t.Parallel()
	for _, at := range []time.Time{time.Date(10_000, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(-5, 1, 1, 0, 0, 0, 0, time.UTC), {}} {
		dir := t.TempDir()
		l, err := ledger.Open(dir, "board", ledger.Options{Now: func() time.Time { return at }})
		require.NoError(t, err)
		require.NoError(t, put(l, "n", value.Int(1)))
		require.NoError(t, l.Close())
		l, err = ledger.Open(dir, "board", ledger.Options{Problem: func(err error) { t.Error(err) }})
		require.NoError(t, err)
		assert.EqualValues(t, 1, get(l, "n"), "%v", at)
		require.NoError(t, l.Close())
	}
	dir := t.TempDir()
	header := journal.Image(journal.Header{Name: "board", ID: "x", Base: 1<<62 - 1}, nil)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "board.jsonl"), header, 0o600))
	l, err := ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(1)))
	err = put(l, "n", value.Int(2))
	require.ErrorIs(t, err, ledger.ErrNotStored)
	assert.Contains(t, err.Error(), fmt.Sprint(1<<62))
	require.NoError(t, l.Close())
	l, err = ledger.Open(dir, "board", ledger.Options{Problem: func(err error) { t.Error(err) }})
	require.NoError(t, err)
	assert.EqualValues(t, 1, get(l, "n"))
	require.NoError(t, l.Close())
}
