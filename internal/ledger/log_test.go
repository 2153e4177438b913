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

func TestLogThatIsBehind(t *testing.T) {
	t.Parallel()
	for name, hold := range map[string]bool{"by itself": false, "held": true} {
		t.Run(name, func(t *testing.T) {
			_, logs, head := begun(t)
			newer, err := logs[0].Append(head, lines(head, true, 2, 3))
			require.NoError(t, err)
			assert.Equal(t, []int64{3, 3}, []int64{newer.Version, newer.Synced})
			if hold {
				require.NoError(t, logs[1].Hold(soon))
				require.NoError(t, logs[1].Hold(soon), "once more is nothing")
			}
			for _, b := range []Batch{lines(head, true, 9), {Wait: soon}} {
				_, err = logs[1].Append(head, b)
				require.ErrorIs(t, err, ErrBehind)
			}
			_, err = logs[1].Rewrite(head, State{Header: *head.Header, Version: head.Version}, soon)
			require.ErrorIs(t, err, ErrBehind)
			busy(t, logs[0], newer)
			im := newImage(false)
			taken, err := logs[1].After(head, im, soon)
			require.NoError(t, err)
			n, _ := im.nodes["n"].Record().Value.AsInt()
			assert.EqualValues(t, 3, n)
			assert.Equal(t, []any{newer.Version, newer.End, newer.Synced, newer.Size}, []any{taken.Version, taken.End, taken.Synced, taken.Size})
			busy(t, logs[0], newer)
			taken, err = logs[1].Append(taken, lines(taken, true, 4))
			require.NoError(t, err)
			busy(t, logs[0], newer)
			logs[1].Release()
			logs[1].Release()
			_, err = logs[0].Append(newer, Batch{Wait: soon})
			require.ErrorIs(t, err, ErrBehind, "and so it is the other that is behind")
			logs[0].Release()
			_, err = logs[1].Append(taken, Batch{Wait: soon})
			require.NoError(t, err, "the lock is free")
			busy := make(chan error, 1)
			go func() { busy <- logs[0].Hold(soon) }()
			require.NoError(t, <-busy)
			logs[0].Release()
		})
	}
}

// A Head that differs from the file's is behind, for any content of the file.
func TestLogNotAtItsHead(t *testing.T) {
	t.Parallel()
	_, logs, head := begun(t)
	for name, other := range map[string]Head{
		"another version":                 {Header: head.Header, Version: head.Version + 1, End: head.End},
		"another commit of the version":   {Header: head.Header, Version: head.Version, End: journal.ParseEnd("00000000")},
		"what is before the first commit": {Header: head.Header},
	} {
		_, err := logs[0].Append(other, lines(other, true, 5))
		assert.ErrorIs(t, err, ErrBehind, name)
		_, err = logs[0].After(other, newImage(false), soon)
		assert.ErrorIs(t, err, ErrReload, name)
		logs[0].Release()
	}
	_, err := logs[0].Append(head, lines(head, true, 5))
	require.NoError(t, err)
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

// Judgements that were made before the lines of others were read are dropped. The group is judged again,
// after those lines.
func TestGroupIsJudgedAgain(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := Open(dir, "board", Options{Disk: disk})
	require.NoError(t, err)
	other, err := Open(dir, "board", Options{Disk: disk.Process()})
	require.NoError(t, err)
	runs := 0
	addOne := JudgeFunc(func(tx *Tx) error {
		n, _ := tx.Value("n").AsInt()
		tx.Put("n", Encoded{val: value.Int(n + 1)})
		return nil
	})
	onlyFirst := JudgeFunc(func(tx *Tx) error {
		if runs++; tx.Value("other").IsZero() {
			return value.ErrAbsent
		}
		return nil
	})
	var group []*request
	for _, j := range []Judge{addOne, onlyFirst, addOne, addOne} {
		group = append(group, &request{queuedAt: time.Now(), judge: j})
	}
	_, err = other.Commit(entry.Author{}, func(tx *Tx) error { tx.Put("other", Encoded{val: value.Int(5)}); return nil })
	require.NoError(t, err)
	l.commitGroup(group)
	for _, r := range group {
		assert.NoError(t, r.err)
	}
	assert.Equal(t, 2, runs)
	assert.EqualValues(t, 4, l.Version())
	n, _ := l.Node("n").Record().Value.AsInt()
	assert.EqualValues(t, 3, n)
	require.NoError(t, other.Refresh())
	n, _ = other.Node("n").Record().Value.AsInt()
	assert.EqualValues(t, 3, n)
	require.NoError(t, l.Close())
	require.NoError(t, other.Close())
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
	}, 10*time.Second, time.Millisecond)
	for n := range int64(2) {
		go func() { answers <- put(61+n, func() { l.opts.Small = 1 }) }()
	}
	require.Eventually(t, func() bool { return l.Waiting() == 2 }, 10*time.Second, time.Millisecond)
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

// A log on which others write: what it does first is what they leave it.
type contested struct {
	Log
	first []error
}

func (c *contested) Append(head Head, b Batch) (Head, error) {
	if len(c.first) > 0 {
		err := c.first[0]
		c.first = c.first[1:]
		return head, err
	}
	return c.Log.Append(head, b)
}

// Who tries again, since his time is not over, is done once when it succeeds, and hears of
// what hinders it then.
func TestAgainIsOnce(t *testing.T) {
	t.Parallel()
	l, err := Open(t.TempDir(), "board", Options{})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	full := fmt.Errorf("%w: the disk is full", ErrNotStored)
	for _, c := range []struct {
		first []error
		want  error
	}{
		{[]error{journal.ErrBusy}, nil}, {[]error{journal.ErrBusy, journal.ErrBusy}, nil},
		{[]error{journal.ErrBusy, full}, ErrNotStored}, {[]error{journal.ErrBusy, fmt.Errorf("%w: no answer", ErrUncertain)}, ErrUncertain},
	} {
		l.io.Lock()
		l.log = &contested{l.log, c.first}
		before := l.Version()
		l.io.Unlock()
		judged := 0
		_, err := l.Commit(entry.Author{}, func(tx *Tx) error {
			judged++
			n, _ := tx.Value("n").AsInt()
			enc, err := Encode(value.Int(n + 1))
			tx.Put("n", enc)
			return err
		})
		require.ErrorIs(t, err, c.want)
		assert.Equal(t, len(c.first)+map[bool]int{true: 1, false: 0}[c.want == nil], judged)
		_, err = l.Commit(entry.Author{}, func(*Tx) error { return nil }) // everything that waits is done before
		require.NoError(t, err)
		assert.Equal(t, before+map[bool]int64{true: 1, false: 0}[c.want == nil], l.Version())
	}
}
