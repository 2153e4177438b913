package ledger_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
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

// After any change of the file from outside, what is acknowledged later is in the file at the path, and
// nothing in it is cut.
func TestTheFileUnderThePath(t *testing.T) {
	t.Parallel()
	for name, outside := range map[string]func(t *testing.T, dir, path string, other *ledger.Ledger){
		"a backup by a hard link, then a compaction": func(t *testing.T, dir, path string, other *ledger.Ledger) {
			require.NoError(t, os.Link(path, filepath.Join(dir, "backup")))
			require.NoError(t, other.Forget())
			require.NoError(t, put(other, "theirs", value.Int(1)))
		},
		"moved away and copied back": func(t *testing.T, dir, path string, other *ledger.Ledger) {
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, os.Rename(path, path+".away"))
			require.NoError(t, os.WriteFile(path, data, 0o600))
			require.NoError(t, put(other, "theirs", value.Int(1)))
		},
		"the directory removed and made again": func(t *testing.T, dir, path string, _ *ledger.Ledger) {
			require.NoError(t, os.RemoveAll(dir))
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: &process{journal.OS}})
			require.NoError(t, err)
			require.NoError(t, put(l, "theirs", value.Int(1)))
			require.NoError(t, l.Close())
		},
		"the directory moved, and another in its place": func(t *testing.T, dir, path string, _ *ledger.Ledger) {
			require.NoError(t, os.Rename(dir, dir+"-away"))
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: &process{journal.OS}})
			require.NoError(t, err)
			require.NoError(t, put(l, "theirs", value.Int(1)))
			require.NoError(t, l.Close())
		},
		"an older and longer copy written into it": func(t *testing.T, dir, path string, _ *ledger.Ledger) {
			elsewhere := filepath.Join(t.TempDir(), "older")
			l, err := ledger.Open(elsewhere, "board", ledger.Options{})
			require.NoError(t, err)
			for i := range 9 {
				require.NoError(t, put(l, "older", value.Text(strings.Repeat("x", 300+i))))
			}
			require.NoError(t, put(l, "theirs", value.Int(1)))
			require.NoError(t, l.Close())
			older, err := os.ReadFile(filepath.Join(elsewhere, "board.jsonl"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, older, 0o600)) // the same inode
		},
		"a shorter copy written into it": func(t *testing.T, dir, path string, _ *ledger.Ledger) {
			elsewhere := filepath.Join(t.TempDir(), "shorter")
			l, err := ledger.Open(elsewhere, "board", ledger.Options{})
			require.NoError(t, err)
			require.NoError(t, put(l, "theirs", value.Int(1)))
			require.NoError(t, l.Close())
			shorter, err := os.ReadFile(filepath.Join(elsewhere, "board.jsonl"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, shorter, 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "garden")
			one, other := two(t, dir, ledger.Options{})
			for i := range 4 {
				require.NoError(t, put(one, "mine", value.Int(int64(i))))
				require.NoError(t, other.Refresh())
			}
			outside(t, dir, one.Path(), other)
			require.NoError(t, put(one, "after", value.Int(7)))
			sees(t, dir, "after", 7)
			sees(t, dir, "theirs", 1)
			assert.EqualValues(t, 1, get(one, "theirs"), "and it knows what was done")
			require.NoError(t, put(one, "after", value.Int(8)))
			sees(t, dir, "after", 8)
		})
	}
}

// A lock whose file was replaced is not the lock that others take.
func TestTheLockUnderThePath(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	one, other := two(t, dir, ledger.Options{})
	require.NoError(t, put(one, "n", value.Int(0)))
	require.NoError(t, os.Remove(filepath.Join(dir, ".board.lock")))
	var all sync.WaitGroup
	for _, l := range []*ledger.Ledger{one, other} {
		all.Go(func() {
			for range 100 {
				_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
					n, _ := tx.Value("n").AsInt()
					enc, err := ledger.Encode(value.Int(n + 1))
					tx.Put("n", enc)
					return err
				})
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	sees(t, dir, "n", 200)
}

// A strict commit checks the lock's path each time, and a prompt one every 100 ms. The holder of the lock
// file at that path keeps it out.
func TestTheLockIsLookedAt(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testTheLockIsLookedAt)
}

func testTheLockIsLookedAt(t *testing.T) {
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Wait: 20 * time.Millisecond})
	require.NoError(t, err)
	replaced := func() *journal.File {
		require.NoError(t, putWithin(l, time.Hour, "n", value.Int(1)))
		require.NoError(t, os.Remove(filepath.Join(dir, ".board.lock")))
		f, err := journal.Attach(journal.OS, dir, "board", false)
		require.NoError(t, err)
		require.NoError(t, f.Lock(true, time.Second))
		return f
	}
	f := replaced()
	assert.ErrorIs(t, put(l, "n", value.Int(2)), journal.ErrBusy, "at once")
	require.NoError(t, errors.Join(f.Unlock(), f.Close()))
	require.NoError(t, put(l, "n", value.Int(3)))
	f = replaced()
	time.Sleep(110 * time.Millisecond)
	assert.ErrorIs(t, putWithin(l, time.Hour, "n", value.Int(4)), journal.ErrBusy, "after a while")
	require.NoError(t, errors.Join(f.Unlock(), f.Close()))
	require.NoError(t, l.Close())
}

// A file that was written into is recognised by its begin and by its end, as far
// as it was known.
func TestWrittenIntoTheFile(t *testing.T) {
	t.Parallel()
	open := func(o ledger.Options) (*ledger.Ledger, *simdisk.Disk, []string, func(string)) {
		disk, dir := simdisk.New(), t.TempDir()
		writer, err := ledger.Open(dir, "board", ledger.Options{Disk: disk})
		require.NoError(t, err)
		for n := range int64(6) {
			require.NoError(t, put(writer, "n", value.Int(n)))
		}
		path := writer.Path()
		require.NoError(t, writer.Close())
		lines := strings.SplitAfter(string(disk.Read(path)), "\n")
		o.Disk, o.Problem = disk, func(error) {}
		h, err := disk.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		write := func(all string) {
			require.NoError(t, h.Truncate(int64(len(all))))
			_, err := h.WriteAt([]byte(all), 0)
			require.NoError(t, err)
		}
		if o.Salvage {
			write(strings.Replace(strings.Join(lines, ""), `"value":2`, `"value":9`, 1))
		}
		l, err := ledger.Open(dir, "board", o)
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, l.Close()) })
		return l, disk, lines, write
	}
	l, _, lines, write := open(ledger.Options{})
	newer := journal.Finish([]byte(strings.Replace(lines[0][:len(lines[0])-19], `"schema":0`, `"schema":4`, 1)), 0)
	write(string(newer) + strings.Join(lines[1:], "") + string(journal.Finish([]byte(set(7, "", "n", 7)), 0)))
	require.NoError(t, l.Refresh())
	assert.Equal(t, []int64{7, 4}, []int64{get(l, "n"), l.Schema()}, "the header is another")

	l, _, lines, write = open(ledger.Options{ReadOnly: true, Salvage: true})
	assert.EqualValues(t, 5, get(l, "n"))
	write(strings.Join(lines[:4], ""))
	require.NoError(t, l.Refresh())
	assert.EqualValues(t, 2, get(l, "n"), "it is shorter than what was passed by")
}

// A data file that is a link stays one: what it leads to is locked, followed,
// appended to and replaced.
func TestDataFileIsALink(t *testing.T) {
	t.Parallel()
	dir, elsewhere := t.TempDir(), t.TempDir()
	real := filepath.Join(elsewhere, "kept.jsonl")
	l, err := ledger.Open(elsewhere, "kept", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, os.Symlink(real, filepath.Join(dir, "board.jsonl")))
	var told []error
	linked, err := ledger.Open(dir, "board", ledger.Options{Disk: &process{journal.OS}, Problem: func(err error) { told = append(told, err) }})
	require.NoError(t, err)
	require.Len(t, told, 1)
	assert.ErrorContains(t, told[0], `says that it is "kept", not "board"`)
	assert.EqualValues(t, 1, get(linked, "n"))
	require.NoError(t, put(linked, "n", value.Int(2)))
	require.NoError(t, linked.Forget())
	require.NoError(t, put(l, "m", value.Int(3)))
	require.NoError(t, linked.Refresh())
	assert.Equal(t, []int64{2, 3}, []int64{get(l, "n"), get(linked, "m")})
	info, err := os.Lstat(filepath.Join(dir, "board.jsonl"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)
	require.NoError(t, errors.Join(l.Close(), linked.Close()))
	require.NoError(t, os.Symlink(filepath.Join(elsewhere, "nothing.jsonl"), filepath.Join(dir, "dangling.jsonl")))
	_, err = ledger.Open(dir, "dangling", ledger.Options{})
	assert.ErrorContains(t, err, "has no target")
}

// A directory that was named relative to where the program was stays that.
func TestRelativeDirectory(t *testing.T) {
	root := t.TempDir()
	t.Chdir(root)
	l, err := ledger.Open("garden", "board", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, put(l, "n", value.Int(1)))
	t.Chdir(t.TempDir())
	require.NoError(t, l.Forget())
	require.NoError(t, put(l, "n", value.Int(2)))
	require.NoError(t, l.Close())
	sees(t, filepath.Join(root, "garden"), "n", 2)
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

// Where a salvage puts its file in place and can't sync the name, the program
// that did it does not write behind what it knew before.
func TestDirectorySyncOfASalvageFails(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Salvage: true, Problem: func(error) {}})
	require.NoError(t, err)
	for n := range int64(6) {
		require.NoError(t, put(l, "n", value.Int(n)))
	}
	other := openSim(t, disk.Process(), dir)
	for n := range int64(3) { // l doesn't know of them yet
		require.NoError(t, put(other, "n", value.Int(10+n)))
	}
	require.NoError(t, other.Close())
	damaged := disk.Read(l.Path())
	damaged[bytes.Index(damaged, []byte(`"value":2`))+8] = '9'
	disk.Write(l.Path(), damaged)
	syncs := 0
	disk.Fault(func(op, _ string) error {
		if op == "syncdir" {
			if syncs++; syncs == 2 { // the first is of the copy of what is damaged
				return syscall.EIO
			}
		}
		return nil
	})
	assert.Error(t, put(l, "m", value.Int(1)))
	require.NoError(t, put(l, "m", value.Int(2)))
	assert.Greater(t, syncs, 2)
	require.NoError(t, l.Close())
	l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk.Synced(), Problem: func(err error) { t.Error(err) }})
	require.NoError(t, err)
	assert.Equal(t, []int64{12, 2}, []int64{get(l, "n"), get(l, "m")})
	require.NoError(t, l.Close())
}

// What is damaged behind what a running program knows is salvaged by it, whether
// it only looks or writes.
func TestDamageBehindWhatIsKnown(t *testing.T) {
	t.Parallel()
	for _, looks := range []bool{false, true} {
		disk, dir := simdisk.New(), t.TempDir()
		var d damages
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Salvage: true, Problem: d.note})
		require.NoError(t, err)
		require.NoError(t, put(l, "n", value.Int(1)))
		other := openSim(t, disk.Process(), dir)
		for n := range int64(3) {
			require.NoError(t, put(other, fmt.Sprint("m", n), value.Int(10+n)))
		}
		require.NoError(t, other.Close())
		file, err := disk.OpenFile(l.Path(), os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = file.WriteAt([]byte("X"), int64(bytes.Index(disk.Read(l.Path()), []byte(`"value":11`))))
		require.NoError(t, err)
		if looks {
			require.NoError(t, l.Refresh())
			require.Len(t, d.list, 1)
		}
		require.NoError(t, put(l, "o", value.Int(5)))
		require.Len(t, d.list, 1)
		assert.Equal(t, []int64{1, 10, 0, 12, 5}, []int64{get(l, "n"), get(l, "m0"), get(l, "m1"), get(l, "m2"), get(l, "o")})
		require.NoError(t, l.Close())
	}
}

// A damaged file, or a newer program's, that is put in place of the file is
// refused at every commit, not at the first alone, and left as it is.
func TestBadFilePutInPlace(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, put(l, "a", value.Int(1)))
	require.NoError(t, put(l, "a", value.Int(2)))
	good, err := os.ReadFile(l.Path())
	require.NoError(t, err)
	damaged := bytes.Replace(good, []byte(`"value":1`), []byte(`"value":9`), 1)
	header, rest, _ := bytes.Cut(good, []byte("\n"))
	newer := append(journal.Finish(bytes.Replace(header[:len(header)-18], []byte("small-pantry/1"), []byte("small-pantry/2"), 1), 0), rest...)
	for name, bad := range map[string][]byte{"damaged": damaged, "newer": newer} {
		for _, salvage := range []bool{false, true} {
			if salvage && name == "damaged" {
				continue // which is mended on purpose
			}
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: &process{journal.OS}, Salvage: salvage, Problem: func(error) {}})
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(l.Path()+".bad", bad, 0o600))
			require.NoError(t, os.Rename(l.Path()+".bad", l.Path()))
			for range 3 {
				assert.Error(t, put(l, "a", value.Int(3)), name)
				assert.Error(t, l.Refresh(), name)
			}
			assert.EqualValues(t, 2, get(l, "a"), "reads go on")
			after, err := os.ReadFile(l.Path())
			require.NoError(t, err)
			assert.Equal(t, string(bad), string(after), name)
			require.NoError(t, os.WriteFile(l.Path()+".good", good, 0o600))
			require.NoError(t, os.Rename(l.Path()+".good", l.Path()))
			require.NoError(t, put(l, "b", value.Int(1)), "with the good one back, work goes on")
			require.NoError(t, l.Close())
			require.NoError(t, os.WriteFile(l.Path(), good, 0o600))
		}
	}
	require.NoError(t, l.Close())
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

// What is cut and holds whole lines is kept, each for itself, and is durable
// before anything is cut.
func TestCutCopies(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l := openSim(t, disk, dir)
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, l.Close())
	path := filepath.Join(dir, "board.jsonl")
	good := disk.Read(path)
	var steps []string
	for i := range 3 {
		disk.Write(path, append(bytes.Clone(good), []byte("what somebody left "+string(rune('a'+i))+"\n")...))
		disk.Fault(func(op, path string) error {
			if op == "truncate" || op == "syncdir" || op == "sync" && strings.Contains(path, "cut") {
				steps = append(steps, op)
			}
			return nil
		})
		require.NoError(t, openSim(t, disk, dir).Close())
		disk.Fault(nil)
	}
	assert.Equal(t, []string{"sync", "syncdir", "truncate"}, steps[:3])
	for i, name := range []string{"board.cut-1", "board.cut-1-2", "board.cut-1-3"} {
		assert.Equal(t, "what somebody left "+string(rune('a'+i))+"\n", string(disk.Read(filepath.Join(dir, name))))
	}
}

// Several who follow a file that gets damaged salvage it once: only who holds
// the lock alone writes.
func TestFollowersSalvageOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var mu sync.Mutex
	found := 0
	one, other := two(t, dir, ledger.Options{Salvage: true, Problem: func(err error) {
		if errors.As(err, new(*ledger.Damage)) {
			mu.Lock()
			found++
			mu.Unlock()
		}
	}})
	for i := range 5 {
		require.NoError(t, put(one, "n", value.Int(int64(i))))
	}
	require.NoError(t, other.Refresh())
	data, err := os.ReadFile(one.Path())
	require.NoError(t, err)
	spoilt := bytes.Replace(data, []byte(`"value":2`), []byte(`"value":7`), 1)
	require.NoError(t, os.WriteFile(one.Path()+".x", spoilt, 0o600))
	require.NoError(t, os.Rename(one.Path()+".x", one.Path()))
	var all sync.WaitGroup
	for _, l := range []*ledger.Ledger{one, other} {
		all.Go(func() { assert.NoError(t, l.Refresh()) })
	}
	all.Wait()
	assert.Equal(t, 1, found)
	copies, err := filepath.Glob(filepath.Join(dir, "board.damaged-*"))
	require.NoError(t, err)
	assert.Len(t, copies, 1)
	assert.Equal(t, []int64{4, 4}, []int64{get(one, "n"), get(other, "n")})
}

// Mending looks at the file also where this process has it open.
func TestMendWhileOpen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	for i := range 5 {
		require.NoError(t, put(l, "n", value.Int(int64(i))))
	}
	data, err := os.ReadFile(l.Path())
	require.NoError(t, err)
	f, err := os.OpenFile(l.Path(), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("9"), int64(bytes.Index(data, []byte(`"value":2`))+8)) // as long as before
	require.NoError(t, errors.Join(err, f.Close()))
	damage, _, err := ledger.Mend(dir, "board", ledger.Options{})
	require.NoError(t, err)
	require.NotNil(t, damage)
	require.NoError(t, put(l, "n", value.Int(9)))
	require.NoError(t, l.Close())
	sees(t, dir, "n", 9)
	damage, cut, err := ledger.Mend(dir, "board", ledger.Options{})
	require.NoError(t, err)
	assert.True(t, damage == nil && cut == nil)
}

// A salvage knows the schema, and keeps every intact line, when it is the
// header that is lost; what has no line of the format is left alone.
func TestSalvageWithoutAHeader(t *testing.T) {
	t.Parallel()
	for _, compacted := range []bool{false, true} {
		disk, dir := simdisk.New(), t.TempDir()
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Schema: 3})
		require.NoError(t, err)
		require.NoError(t, put(l, "a", value.Int(1)))
		require.NoError(t, put(l, "b", value.Int(2)))
		if compacted {
			require.NoError(t, l.Forget())
		}
		require.NoError(t, l.Close())
		path := filepath.Join(dir, "board.jsonl")
		file := disk.Read(path)
		file[5] ^= 1
		disk.Write(path, file)
		damage, _, err := ledger.Mend(dir, "board", ledger.Options{Disk: disk})
		require.NoError(t, err)
		require.NotNil(t, damage)
		l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk})
		require.NoError(t, err)
		assert.Equal(t, []int64{1, 2, 3}, []int64{get(l, "a"), get(l, "b"), l.Schema()}, "compacted: %v", compacted)
		require.NoError(t, l.Close())
	}
	disk, dir := simdisk.New(), t.TempDir()
	path := filepath.Join(dir, "board.jsonl")
	for _, theirs := range []string{"a letter\n", "{\"name\":\"a\",\"kind\":\"int\",\"value\":1}\n", "\x00\x00", "\n"} {
		disk.Write(path, []byte(theirs))
		_, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Salvage: true})
		assert.ErrorIs(t, err, journal.ErrForeign, "%q", theirs)
		assert.Equal(t, theirs, string(disk.Read(path)))
	}
	disk.Write(path, nil)
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Salvage: true, Problem: func(error) {}})
	require.NoError(t, err, "an empty file is what is left of one")
	require.NoError(t, l.Close())
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
