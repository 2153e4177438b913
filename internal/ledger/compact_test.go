package ledger

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
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

// A log whose past takes as long to read as a test wants.
type slowLog struct {
	Log
	once          sync.Once
	ahead         bool // it has more than is known
	reading, goOn chan struct{}
}

func slowly(l *Ledger) *slowLog {
	s := &slowLog{Log: l.log, reading: make(chan struct{}), goOn: make(chan struct{})}
	l.io.Lock()
	defer l.io.Unlock()
	l.log = s
	return s
}

func (s *slowLog) Past(h Head) (Past, error) {
	p, err := s.Log.Past(h)
	return slowPast{p, s}, err
}

type slowPast struct {
	Past
	of *slowLog
}

func (p slowPast) Version() int64 {
	if p.of.ahead {
		return p.Past.Version() + 1
	}
	return p.Past.Version()
}

func (p slowPast) Read(c journal.Consumer) error {
	first := false
	p.of.once.Do(func() { first = true })
	if first {
		close(p.of.reading)
		<-p.of.goOn
	}
	return p.Past.Read(c)
}

func put(l *Ledger, name string, n int64) error {
	_, err := l.Commit(entry.Author{}, func(tx *Tx) error { tx.Put(name, Encoded{val: value.Int(n)}); return nil })
	return err
}

// stateOf describes what a ledger holds, and its newest commits.
func stateOf(t *testing.T, l *Ledger) []string {
	t.Helper()
	s := l.Snapshot()
	defer s.Release()
	out := []string{fmt.Sprintf("version %d, keys %v, closed %v, schema %d", l.Version(), l.Keys(), l.KeysClosed(), l.Schema())}
	for e := range s.Entries("", "") {
		out = append(out, fmt.Sprintf("%s=%s at %d since %d", e.Name, e.Value, e.Version, e.First))
	}
	history, err := l.History(2)
	require.NoError(t, err)
	for _, c := range history {
		out = append(out, fmt.Sprintf("%d: %v", c.Version, c.Changes))
	}
	return out
}

// While it is chosen what a compaction keeps, everybody may write: it takes nothing of that
// away, nor brings back what was forgotten.
func TestCommitsBesideCompaction(t *testing.T) {
	t.Parallel()
	disk, dir := (*simdisk.Disk)(nil), ""
	open := func(t *testing.T, disk *simdisk.Disk, o Options) *Ledger {
		t.Helper()
		o.Disk, o.Kept, o.KeptBytes = disk, 1, 100
		l, err := Open(dir, "board", o)
		require.NoError(t, err)
		return l
	}
	drop := func(l *Ledger, name string) error {
		_, err := l.Commit(entry.Author{}, func(tx *Tx) error { tx.Drop(name); return nil })
		return err
	}
	for name, c := range map[string]struct {
		meanwhile func(t *testing.T, l *Ledger) error
		compacts  bool
		problems  int
	}{
		"nothing": {func(*testing.T, *Ledger) error { return nil }, true, 0},
		"commits": {func(t *testing.T, l *Ledger) error {
			for i, do := range []error{put(l, "n", 1000), drop(l, "gone"), put(l, "gone", 5), put(l, "new", 6), drop(l, "new"), drop(l, "also")} {
				require.NoError(t, do, i)
			}
			_, err := l.Commit(entry.Author{}, func(tx *Tx) error {
				tx.Declare(entry.Declared{Key: entry.Key{Name: "n", Kind: value.KindInt}})
				tx.SetSchema(3)
				tx.CloseKeys(true)
				return nil
			})
			require.NoError(t, err)
			_, err = l.Commit(entry.Author{}, func(tx *Tx) error {
				tx.Put("n", Encoded{val: value.Int(1001)})
				tx.Keep(Receipt{Instance: "phone", Key: "1", Hash: "x", Status: 200, Changed: "1"})
				return nil
			})
			return err
		}, true, 0},
		"prompt commits": {func(_ *testing.T, l *Ledger) error {
			for n := range int64(3) {
				_, err := l.CommitWithin(time.Hour, entry.Author{}, JudgeFunc(func(tx *Tx) error { tx.Put("n", Encoded{val: value.Int(2000 + n)}); return nil }))
				if err != nil {
					return err
				}
			}
			return nil
		}, true, 0},
		"commits of another process": {func(t *testing.T, l *Ledger) error {
			other := open(t, disk.Process(), Options{})
			require.NoError(t, put(other, "n", 1000))
			require.NoError(t, put(l, "here", 1))
			require.NoError(t, put(other, "there", 2))
			require.NoError(t, l.Refresh())
			require.NoError(t, put(other, "there", 3))
			require.NoError(t, other.Close())
			return nil // the last is not known yet
		}, true, 0},
		"compaction by another": {func(t *testing.T, _ *Ledger) error {
			other := open(t, disk.Process(), Options{Small: 1})
			other.compactAt = 0
			require.NoError(t, put(other, "n", 1000))
			return other.Close()
		}, true, 0},
		"forgetting":             {func(_ *testing.T, l *Ledger) error { return l.Forget("n") }, false, 0},
		"a file with another id": {func(_ *testing.T, l *Ledger) error { return l.Renew() }, false, 0},
		"a disk that fails": {func(t *testing.T, l *Ledger) error {
			fails := "sync"
			disk.Fault(func(op, _ string) error {
				if op == fails {
					fails = ""
					return syscall.EIO
				}
				return nil
			})
			require.ErrorIs(t, put(l, "n", 1000), ErrNotStored)
			return nil
		}, true, 1},
		"a full disk": {func(t *testing.T, l *Ledger) error {
			disk.Space(0)
			require.ErrorIs(t, put(l, "n", 1000), ErrNotStored)
			disk.Space(-1)
			return put(l, "here", 1)
		}, true, 0},
		"a file that is gone": {func(_ *testing.T, l *Ledger) error { return disk.Remove(l.Path()) }, true, 1},
		"a log that is ahead": {func(*testing.T, *Ledger) error { return nil }, false, 0},
	} {
		t.Run(name, func(t *testing.T) {
			disk, dir = simdisk.New(), t.TempDir()
			var problems []error
			l := open(t, disk, Options{Problem: func(err error) { problems = append(problems, err) }, Marks: 100})
			require.NoError(t, put(l, "gone", 1))
			require.NoError(t, put(l, "also", 1))
			for n := range int64(60) {
				require.NoError(t, put(l, "n", n))
			}
			size, slow := len(disk.Read(l.Path())), slowly(l)
			l.io.Lock()
			l.opts.Small, l.compactAt = 1, 0
			l.io.Unlock()
			led := make(chan error, 1)
			slow.ahead = name == "a log that is ahead"
			go func() { led <- put(l, "n", 60) }()
			if slow.ahead {
				slow.once.Do(func() {}) // it is not read for this
				require.NoError(t, <-led)
				led <- nil
			} else {
				<-slow.reading
				require.NoError(t, c.meanwhile(t, l))
				assert.Empty(t, led, "the leader does it")
			}
			due := func() bool { l.io.Lock(); defer l.io.Unlock(); return l.dueForCompaction() }
			gone, others := name == "a file that is gone", strings.Contains(name, "another process") || strings.Contains(name, "by another")
			var before []string
			if !gone {
				before = stateOf(t, l)
			}
			commit, known := l.CommitAt(l.Version())
			close(slow.goOn)
			require.NoError(t, <-led)
			assert.Len(t, problems, c.problems, "%v", problems)
			assert.Nil(t, l.rewriting)
			assert.Zero(t, l.snaps)
			if gone {
				require.NoError(t, put(l, "n", 61)) // which writes it again
				before = stateOf(t, l)
				commit, known = l.CommitAt(l.Version())
			}
			same, err := l.Commit(entry.Author{}, func(*Tx) error { return nil })
			require.NoError(t, err)
			if now, _ := l.CommitAt(l.Version()); !others {
				assert.Equal(t, []CommitID{now, now}, []CommitID{commit, *same.After})
			}
			require.NoError(t, l.Flush())
			file := string(disk.Read(l.Path()))
			if c.compacts {
				assert.Less(t, len(file), size/2)
			}
			if slow.ahead {
				assert.Greater(t, len(file), size)
			}
			assert.False(t, due(), "it is not tried again at once")
			if others {
				require.NoError(t, l.Refresh())
				commit, _ = l.CommitAt(l.Version())
			} else {
				assert.Equal(t, before, stateOf(t, l))
				again, still := l.CommitAt(l.Version())
				assert.Equal(t, []any{commit, known}, []any{again, still})
			}
			if name == "forgetting" {
				assert.NotContains(t, file, `"name":"n","kind":"int","value":3`)
			}
			before = stateOf(t, l)
			require.NoError(t, l.Close())
			again := open(t, disk.Synced(), Options{Problem: func(err error) { t.Error(err) }, Marks: 100})
			assert.Equal(t, before, stateOf(t, again))
			now, still := again.CommitAt(again.Version())
			assert.Equal(t, []any{commit.End, true}, []any{now.End, still})
			if name == "commits" {
				again.mu.RLock()
				assert.Len(t, again.receipts.all, 1)
				again.mu.RUnlock()
			}
			require.NoError(t, put(again, "n", 7))
			require.NoError(t, again.Close())
		})
	}
}

// Only one compaction runs at a time, also if several callers find it due. Close waits for it.
func TestOneCompactionAtATime(t *testing.T) {
	t.Parallel()
	l, err := Open(t.TempDir(), "board", Options{Kept: 1, KeptBytes: 100, Problem: func(err error) { t.Error(err) }})
	require.NoError(t, err)
	for n := range int64(60) {
		require.NoError(t, put(l, "n", n))
	}
	before, err := os.Stat(l.Path())
	require.NoError(t, err)
	slow := slowly(l)
	l.opts.Small = 1
	led := make(chan error, 1)
	go func() { led <- put(l, "n", 60) }()
	<-slow.reading
	for n := range int64(20) {
		require.NoError(t, put(l, "n", 100+n), "nor is it tried")
	}
	closed := make(chan error, 1)
	go func() { closed <- l.Close() }()
	require.Eventually(t, func() bool { l.queue.mu.Lock(); defer l.queue.mu.Unlock(); return l.queue.closing }, hang.Patience, time.Millisecond)
	time.Sleep(10 * time.Millisecond) // a Close that does not wait would end in this time; nothing signals that it waits
	assert.Empty(t, closed)
	close(slow.goOn)
	require.NoError(t, <-led)
	require.NoError(t, <-closed)
	after, err := os.Stat(l.Path())
	require.NoError(t, err)
	assert.Less(t, after.Size(), before.Size())
	left, err := filepath.Glob(filepath.Join(filepath.Dir(l.Path()), "*"))
	require.NoError(t, err)
	assert.Len(t, slices.DeleteFunc(left, func(path string) bool { return strings.HasPrefix(filepath.Base(path), ".") }), 1)
}

// Each receipt is in the file once, also if its commits are gone.
func TestReceiptsStandOnce(t *testing.T) {
	t.Parallel()
	disk := simdisk.New()
	l, err := Open(t.TempDir(), "board", Options{Disk: disk, Kept: 2, Every: 100})
	require.NoError(t, err)
	for n := range int64(100) {
		_, err := l.Commit(entry.Author{}, func(tx *Tx) error {
			tx.Put(map[bool]string{true: "quiet", false: "busy"}[n%10 == 0], Encoded{val: value.Int(n)})
			tx.Keep(Receipt{Instance: "phone", Key: fmt.Sprint("key", n), Hash: "x", Status: 200, Changed: "1"})
			return nil
		})
		require.NoError(t, err)
	}
	file := string(disk.Read(l.Path()))
	require.True(t, strings.Contains(file, `"over":9`))
	for n := range 100 {
		assert.Equal(t, 1, strings.Count(file, fmt.Sprintf(`"key%d"`, n)), n)
	}
	require.NoError(t, l.Close())
}

// A file becomes small when most entries are removed. It is not rewritten again and again because of the
// removed names that it must keep.
func TestRemovedNames(t *testing.T) {
	t.Parallel()
	l, err := Open(t.TempDir(), "board", Options{Problem: func(err error) { t.Error(err) }})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	var file os.FileInfo
	most, rewritten := int64(0), 0
	commit := func(judge func(*Tx)) {
		_, err := l.CommitWithin(time.Second, entry.Author{}, JudgeFunc(func(tx *Tx) error { judge(tx); return nil }))
		require.NoError(t, err)
		now, err := os.Stat(l.Path())
		require.NoError(t, err)
		if file != nil && !os.SameFile(file, now) {
			rewritten++
		}
		file, most = now, max(most, now.Size())
	}
	name := func(i int) string { return fmt.Sprintf("plantings/%016d", i) }
	set := func(name string, n int) {
		commit(func(tx *Tx) { tx.Put(name, Encoded{val: value.Int(int64(n))}) })
	}
	for group := range 30 {
		for i := range 1000 {
			set(name(1000*group+i), i)
		}
		commit(func(tx *Tx) {
			for i := range 1000 {
				tx.Drop(name(1000*group + i))
			}
		})
	}
	// Four times the past of 256 KiB and 1000 names of 132 bytes, and 10,000 removed of 29.
	assert.Less(t, most, int64(1_900_000))

	for i := range keptGone {
		set(name(i), i)
		commit(func(tx *Tx) { tx.Drop(name(i)) })
	}
	rewritten = 0
	for i := range 2000 {
		set("tank", i)
	}
	assert.LessOrEqual(t, rewritten, 1, "each of 2000 short lines in a file of %d bytes", most)
}
