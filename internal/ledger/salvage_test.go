package ledger_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
