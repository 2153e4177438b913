package ledger_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
