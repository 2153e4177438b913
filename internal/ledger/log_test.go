package ledger

import (
	"fmt"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
)

const (
	soon  = time.Second
	atAll = 5 * time.Millisecond
)

// logOf returns the log of a board as a process on a disk has it, and what it reported.
func logOf(t *testing.T, disk *simdisk.Disk, dir string) (*fileLog, *[]error) {
	t.Helper()
	file, err := journal.Attach(disk, dir, "board", false)
	require.NoError(t, err)
	var problems []error
	f := &fileLog{file: file, problem: func(err error) { problems = append(problems, err) }}
	t.Cleanup(func() { assert.NoError(t, f.Close()) })
	return f, &problems
}

// begun returns the logs of two processes that both know a board of one commit.
func begun(t *testing.T) (disks [2]*simdisk.Disk, logs [2]*fileLog, head Head) {
	t.Helper()
	dir := t.TempDir()
	disks[0] = simdisk.New()
	disks[1] = disks[0].Process()
	logs[0], _ = logOf(t, disks[0], dir)
	require.NoError(t, logs[0].Hold(soon))
	_, err := logs[0].Load(newImage(true), soon)
	require.True(t, IsNotExist(err))
	head, err = logs[0].Rewrite(Head{}, State{Header: journal.Header{Name: "board", ID: newID()}}, soon)
	require.NoError(t, err)
	logs[0].Release()
	head, err = logs[0].Append(head, lines(head, true, 1))
	require.NoError(t, err)
	logs[1], _ = logOf(t, disks[1], dir)
	same, err := logs[1].Load(newImage(true), soon)
	require.NoError(t, err)
	same.Took = head.Took
	require.Equal(t, head, same, "both are there")
	return disks, logs, head
}

// lines is a batch after head. Each line sets n.
func lines(head Head, sync bool, values ...int64) Batch {
	b := Batch{Count: len(values), Sync: sync, Wait: soon}
	for i, n := range values {
		c := commit{Stamp: Stamp{Version: head.Version + int64(i) + 1}, schema: -1, synced: head.Synced,
			changes: []change{{name: "n", val: value.Int(n)}}}
		b.Lines = c.appendLine(b.Lines)
	}
	return b
}

// busy says that f can't write now, since another has the lock.
func busy(t *testing.T, f *fileLog, head Head) {
	t.Helper()
	_, err := f.Append(head, Batch{Wait: atAll})
	assert.ErrorIs(t, err, journal.ErrBusy)
}

// After a failure that leaves the file uncertain, no other caller writes before the file is rewritten, also
// if its end could not be cut off.
func TestLogOfADiskThatFailed(t *testing.T) {
	t.Parallel()
	for _, fails := range [][]string{{"sync"}, {"sync", "truncate"}, {"write", "truncate"}} {
		disks, logs, head := begun(t)
		fails := fails
		disks[0].Fault(func(op, _ string) error {
			if len(fails) > 0 && op == fails[0] {
				fails = fails[1:]
				return syscall.EIO
			}
			return nil
		})
		after, err := logs[0].Append(head, lines(head, true, 2))
		require.ErrorAs(t, err, new(*DiskError))
		require.Empty(t, fails)
		busy(t, logs[1], head)
		state := State{Header: *head.Header, Version: head.Version, End: head.End, Lines: lines(Head{}, true, 1).Lines, Count: 1}
		after, err = logs[0].Rewrite(after, state, soon)
		require.NoError(t, err, "without another look at what is there")
		assert.Equal(t, []int64{1, 1}, []int64{after.Version, after.Synced})
		busy(t, logs[1], head)
		logs[0].Release()
		_, err = logs[1].Append(head, Batch{Wait: soon})
		require.ErrorIs(t, err, ErrBehind, "another file is there")
		_, err = logs[1].After(head, newImage(false), soon)
		require.ErrorIs(t, err, ErrReload)
		again, err := logs[1].Load(newImage(true), soon)
		require.NoError(t, err)
		assert.Equal(t, []any{after.Version, after.End, after.Synced, after.Size}, []any{again.Version, again.End, again.Synced, again.Size})
		logs[1].Release()
	}
}

// A Head says exactly what is synced.
func TestLogTellsWhatIsSynced(t *testing.T) {
	t.Parallel()
	disks, logs, head := begun(t)
	syncs, fails := 0, ""
	disks[0].Fault(func(op, _ string) error {
		if op == "sync" {
			syncs++
		}
		if op == fails {
			fails = ""
			return syscall.ENOSPC
		}
		return nil
	})
	head, err := logs[0].Append(head, Batch{Sync: true, Wait: soon})
	require.NoError(t, err)
	assert.Equal(t, 0, syncs, "all of it is synced")
	for n := range int64(3) {
		head, err = logs[0].Append(head, lines(head, false, n))
		require.NoError(t, err)
	}
	assert.Equal(t, []int64{4, 1}, []int64{head.Version, head.Synced})
	head, err = logs[0].Append(head, Batch{Wait: soon})
	require.NoError(t, err)
	assert.Equal(t, []int64{4, 1}, []int64{head.Version, head.Synced}, "it was not asked for")
	fails = "write"
	head, err = logs[0].Append(head, lines(head, true, 7))
	require.ErrorIs(t, err, ErrNotStored)
	assert.Equal(t, []int64{4, 4}, []int64{head.Version, head.Synced}, "the end without it was synced")
	head, err = logs[0].Append(head, lines(head, false, 8))
	require.NoError(t, err)
	before := syncs
	head, err = logs[0].Append(head, Batch{Sync: true, Wait: soon})
	require.NoError(t, err)
	assert.Equal(t, []int64{5, 5}, []int64{head.Version, head.Synced})
	assert.Equal(t, before+1, syncs)
	assert.Positive(t, head.Took)

	head, err = logs[0].Append(head, lines(head, false, 9))
	require.NoError(t, err)
	again, err := logs[1].Load(newImage(true), soon)
	require.NoError(t, err)
	assert.Equal(t, []int64{6, 6}, []int64{again.Version, again.Synced}, "its reader syncs it")
	state := State{Header: *head.Header, Version: 6, End: head.End, Lines: lines(Head{Version: 5}, true, 9).Lines, Count: 1}
	state.Header.Base, state.Header.Lines, state.Header.End = 6, 1, head.End
	head, err = logs[0].Rewrite(head, state, soon)
	require.NoError(t, err)
	assert.Equal(t, []int64{6, 6}, []int64{head.Version, head.Synced}, "a new file is synced")
}

// Lines of others that could not be synced are put in a new file with the same newest commit. The torn end
// is left out, and a copy of it is kept.
func TestLogWritesOthersLinesAnew(t *testing.T) {
	t.Parallel()
	disks, logs, head := begun(t)
	path := logs[0].file.Path()
	theirs, err := logs[1].Append(head, lines(head, false, 2))
	require.NoError(t, err)
	torn := append(lines(Head{Version: 7}, true, 8).Lines, "half"...)
	h, err := disks[1].OpenFile(path, syscall.O_RDWR, 0)
	require.NoError(t, err)
	_, err = h.WriteAt(torn, theirs.Size)
	require.NoError(t, err)
	fails := map[string]bool{"sync": true, "truncate": true}
	disks[0].Fault(func(op, _ string) error {
		if fails[op] {
			delete(fails, op)
			return syscall.EIO
		}
		return nil
	})
	var problems []error
	logs[0].problem = func(err error) { problems = append(problems, err) }
	require.NoError(t, logs[0].Hold(soon))
	head, err = logs[0].After(head, newImage(false), soon)
	require.NoError(t, err)
	assert.Equal(t, []any{theirs.Version, theirs.End, theirs.Version, theirs.Size}, []any{head.Version, head.End, head.Synced, head.Size})
	assert.Contains(t, fails, "truncate", "the old file is left as it is")
	var cut *CutError
	require.Len(t, problems, 2)
	require.ErrorAs(t, problems[0], &cut)
	assert.Equal(t, string(torn), string(disks[0].Read(cut.Copied)))
	assert.ErrorIs(t, problems[1], syscall.EIO)
	head, err = logs[0].Append(head, lines(head, true, 3))
	require.NoError(t, err)
	logs[0].Release()
	f, _ := logOf(t, disks[0].Synced(), filepath.Dir(path))
	again, err := f.Load(newImage(true), soon)
	require.NoError(t, err)
	assert.Equal(t, []any{head.Version, head.End}, []any{again.Version, again.End})
}

// A refusal stays what it is where the group that it was judged in can't be
// stored: it rests on nothing of it.
func TestRefusedInAFailedGroup(t *testing.T) {
	t.Parallel()
	disk := simdisk.New()
	l, err := Open(t.TempDir(), "board", Options{Disk: disk})
	require.NoError(t, err)
	refused := fmt.Errorf("no")
	group := []*request{
		{within: 0, queuedAt: time.Now(), judge: JudgeFunc(func(*Tx) error { return refused })},
		{within: 0, queuedAt: time.Now(), judge: JudgeFunc(func(tx *Tx) error { tx.Put("n", Encoded{val: value.Int(1)}); return nil })},
	}
	disk.Space(0)
	l.commitGroup(group)
	assert.Equal(t, refused, group[0].err)
	assert.ErrorIs(t, group[1].err, ErrNotStored)
	disk.Space(-1)
	require.NoError(t, l.Close())
}

// A compaction does not wait long for others, and includes what they wrote just before it.
func TestCompactionBesideOthers(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := Open(dir, "board", Options{Disk: disk, Kept: 1, KeptBytes: 100, Problem: func(err error) { t.Error(err) }})
	require.NoError(t, err)
	for n := range int64(60) {
		_, err = l.Commit(entry.Author{}, func(tx *Tx) error { tx.Put("n", Encoded{val: value.Int(n)}); return nil })
		require.NoError(t, err)
	}
	size := len(disk.Read(l.Path()))
	l.opts.Small = 1
	other, _ := logOf(t, disk.Process(), dir)
	head, err := other.Load(newImage(true), soon)
	require.NoError(t, err)
	require.NoError(t, other.Hold(soon))
	l.queue.compactNow()
	assert.Len(t, disk.Read(l.Path()), size, "another has the lock")
	_, err = other.Append(head, lines(head, true, 1000))
	require.NoError(t, err)
	other.Release()
	l.queue.compactNow()
	assert.Less(t, len(disk.Read(l.Path())), size)
	n, _ := l.Node("n").Record().Value.AsInt()
	assert.EqualValues(t, 1000, n)
	require.NoError(t, l.Close())
}

// The leader of a group compacts the file when it is due. The others of the group are answered first.
func TestAnsweredBeforeCompaction(t *testing.T) {
	t.Parallel()
	disk := simdisk.New()
	l, err := Open(t.TempDir(), "board", Options{Disk: disk, Kept: 1, KeptBytes: 100, Problem: func(err error) { t.Error(err) }})
	require.NoError(t, err)
	put := func(n int64, before func()) error {
		_, err := l.Commit(entry.Author{}, func(tx *Tx) error {
			before()
			tx.Put("n", Encoded{val: value.Int(n)})
			return nil
		})
		return err
	}
	for n := range int64(60) {
		require.NoError(t, put(n, func() {}))
	}
	size := len(disk.Read(l.Path()))
	compacting, goOn := make(chan struct{}), make(chan struct{})
	disk.Fault(func(op, _ string) error {
		if op == "rename" {
			close(compacting)
			<-goOn
		}
		return nil
	})
	answers := make(chan error, 3)
	first := make(chan struct{})
	go func() { answers <- put(60, func() { <-first }) }()
	require.Eventually(t, func() bool {
		l.queue.mu.Lock()
		defer l.queue.mu.Unlock()
		return l.queue.leading && len(l.queue.waiting) == 0
	}, hang.Patience, time.Millisecond)
	for n := range int64(2) {
		go func() { answers <- put(61+n, func() { l.opts.Small = 1 }) }()
	}
	require.Eventually(t, func() bool { return l.Waiting() == 2 }, hang.Patience, time.Millisecond)
	close(first)
	<-compacting
	for range 2 {
		require.NoError(t, <-answers)
	}
	assert.Empty(t, answers, "the leader makes it")
	close(goOn)
	require.NoError(t, <-answers)
	assert.Less(t, len(disk.Read(l.Path())), size)
	require.NoError(t, l.Close())
}
