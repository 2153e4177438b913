package ledger_test

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/value"
)

// The test binary is also the process that some tests start and kill: with
// LEDGER_CHILD it writes to the directory named there until it is done or dead.
func TestMain(m *testing.M) {
	if dir := os.Getenv("LEDGER_CHILD"); dir != "" {
		if err := child(dir, os.Args[1], os.Args[2], os.Args[3]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	goleak.VerifyTestMain(m)
}

// child adds to the counter name in several goroutines, a number of times
// each (0: for ever), and prints each number that it was told is stored.
func child(dir, name, writers, times string) error {
	l, err := ledger.Open(dir, "board", ledger.Options{Small: 1, Kept: 20, Salvage: true, Problem: func(err error) {
		if _, torn := err.(*ledger.CutError); !torn {
			fmt.Fprintln(os.Stderr, err)
		}
	}})
	if err != nil {
		return err
	}
	w, _ := strconv.Atoi(writers)
	n, _ := strconv.Atoi(times)
	var all sync.WaitGroup
	failed := make(chan error, w)
	for range w {
		all.Go(func() {
			for i := 0; n == 0 || i < n; i++ {
				now, err := addOne(l, name)
				if err != nil {
					failed <- err
					return
				}
				fmt.Println(now)
			}
		})
	}
	all.Wait()
	close(failed)
	for err := range failed {
		return err
	}
	return l.Close()
}

func addOne(l *ledger.Ledger, name string) (now int64, err error) {
	_, err = l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		n, _ := tx.Value(name).AsInt()
		now = n + 1
		enc, err := ledger.Encode(value.Int(now))
		tx.Put(name, enc)
		return err
	})
	return now, err
}

// spawn starts a child. writing is closed when the child has acknowledged the first number, or has ended.
// told returns the largest.
func spawn(t testing.TB, dir, name string, writers, times int) (cmd *exec.Cmd, writing <-chan struct{}, told <-chan int64) {
	cmd = exec.Command(os.Args[0], name, strconv.Itoa(writers), strconv.Itoa(times))
	cmd.Env = append(os.Environ(), "LEDGER_CHILD="+dir)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	done, first := make(chan int64, 1), make(chan struct{})
	begun := sync.OnceFunc(func() { close(first) })
	go func() {
		defer begun()
		var most int64
		lines := bufio.NewReader(out)
		for {
			line, err := lines.ReadString('\n')
			if err != nil { // half a line of a process that was killed is not told
				break
			}
			n, _ := strconv.ParseInt(strings.TrimSpace(line), 10, 64)
			most = max(most, n)
			begun()
		}
		_, _ = io.Copy(io.Discard, out)
		done <- most
	}()
	return cmd, first, done
}

// A process is killed in the middle of writing, again and again.
func TestKilledWhileWriting(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const writers = 4
	var stored int64
	for kill := range soak.Rounds(15, 500) {
		cmd, writing, told := spawn(t, dir, "n", writers, 0)
		<-writing
		time.Sleep(time.Duration(rand.IntN(15_000)) * time.Microsecond) // the kill is to come at any moment of a write
		require.NoError(t, cmd.Process.Kill())
		most := <-told
		_ = cmd.Wait() // it says that it was killed
		var d damages
		l, err := ledger.Open(dir, "board", ledger.Options{Problem: d.note, Salvage: true})
		require.NoError(t, err)
		require.Empty(t, d.list)
		n := get(l, "n")
		require.GreaterOrEqual(t, n, max(most, stored), "kill %d", kill)
		require.LessOrEqual(t, n, max(most, stored)+writers, "kill %d: at most one commit a caller that it was not told of", kill)
		stored = n
		require.NoError(t, l.Close())
	}
	assert.Positive(t, stored)
}

// Several processes with compaction going on: no commit is lost, and no
// version skipped.
func TestSeveralProcesses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const writers = 4
	times := soak.Rounds(100, 1500)
	var cmds []*exec.Cmd
	for range 4 {
		cmd, _, _ := spawn(t, dir, "n", writers, times/writers)
		cmds = append(cmds, cmd)
	}
	// A reader follows meanwhile, and never sees the count go back.
	seen := int64(0)
	deadline := time.Now().Add(time.Minute)
	for seen < int64(4*times) && time.Now().Before(deadline) {
		l, err := ledger.Open(dir, "board", ledger.Options{ReadOnly: true})
		if ledger.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		for range 50 {
			require.NoError(t, l.Refresh())
			n := get(l, "n")
			require.GreaterOrEqual(t, n, seen)
			seen = n
		}
		require.NoError(t, l.Close())
	}
	for _, cmd := range cmds {
		require.NoError(t, cmd.Wait())
	}
	l, err := ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	assert.EqualValues(t, 4*times, get(l, "n"))
	assert.EqualValues(t, 4*times, l.Version(), "each commit has a version, and no version is without one")
	past, err := l.History(0)
	require.NoError(t, err)
	assert.Less(t, len(past), 4*times, "it was compacted")
	for i, p := range past {
		assert.EqualValues(t, 4*times-i, p.Version)
		n, _ := p.Changes[0].New.AsInt()
		assert.EqualValues(t, p.Version, n)
	}
	require.NoError(t, l.Close())
}

// A lock that is kept is reported, with the process that keeps it.
func TestBusyNamesTheHolder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	other, err := journal.Attach(journal.OS, dir, "board", false)
	require.NoError(t, err)
	require.NoError(t, other.Lock(true, time.Second))
	require.NoError(t, l.Close())
	_, err = ledger.Open(dir, "board", ledger.Options{Wait: time.Millisecond})
	assert.ErrorIs(t, err, journal.ErrBusy)
	assert.ErrorContains(t, err, fmt.Sprintf("process %d", os.Getpid()))
	require.NoError(t, other.Unlock())
	require.NoError(t, other.Close())
}

// What another user than the owner may not do: leave files behind that the
// app can't open.
func TestAnotherUsersFiles(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root can make files of another user")
	}
	dir := t.TempDir()
	require.NoError(t, os.Chown(dir, 4711, 4711))
	_, err := ledger.Open(dir, "board", ledger.Options{})
	assert.ErrorIs(t, err, os.ErrPermission)
	assert.ErrorContains(t, err, "belongs to user 4711")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)

	require.NoError(t, os.Chown(dir, 0, 0))
	l, err := ledger.Open(dir, "board", ledger.Options{Small: 1, Kept: 1})
	require.NoError(t, err)
	require.NoError(t, os.Chown(l.Path(), 4711, 4711))
	for i := range 40 {
		require.NoError(t, put(l, "n", value.Int(int64(i))), "appending is allowed")
	}
	past, err := l.History(0)
	require.NoError(t, err)
	assert.Len(t, past, 40, "but not compacting")
	assert.ErrorIs(t, l.Forget(), os.ErrPermission)
	assert.ErrorIs(t, l.MayReplace(), os.ErrPermission)
	require.NoError(t, l.Close())
}

func TestFileTakenAway(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	require.NoError(t, put(l, "a", value.Int(1)))
	require.NoError(t, os.Remove(l.Path()))
	require.NoError(t, put(l, "b", value.Int(2)))
	require.NoError(t, l.Close())
	l, err = ledger.Open(dir, "board", ledger.Options{})
	require.NoError(t, err)
	assert.Equal(t, []int64{1, 2}, []int64{get(l, "a"), get(l, "b")}, "a running program still had all of it")
	require.NoError(t, l.Close())
}

// A clock that runs back changes nothing, and members of a line that this
// program doesn't know survive a compaction.
func TestClockAndUnknownMembers(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	l, err := ledger.Open(dir, "board", ledger.Options{Now: func() time.Time { now = now.Add(-time.Hour); return now }, Small: 1, Kept: 1})
	require.NoError(t, err)
	require.NoError(t, put(l, "a", value.Int(1)))
	require.NoError(t, l.Close())
	f, err := os.OpenFile(l.Path(), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	line := `{"version":2,"at":"2026-05-03T09:12:44.123Z","weather":{"rain":[1,2.0]},"set":[{"value":2,"kind":"int","name":"b","unit":"mm"}]`
	_, err = f.Write(journal.Finish([]byte(line), 0))
	require.NoError(t, err)
	require.NoError(t, f.Close())
	l, err = ledger.Open(dir, "board", ledger.Options{Small: 1, Kept: 1, KeptBytes: 300, Now: func() time.Time { return now }})
	require.NoError(t, err)
	assert.Equal(t, []int64{1, 2}, []int64{get(l, "a"), get(l, "b")}, "the members of an entry stand in any order")
	for i := range 40 {
		require.NoError(t, put(l, "n", value.Int(int64(i))))
	}
	require.NoError(t, l.Close())
	file, err := os.ReadFile(l.Path())
	require.NoError(t, err)
	assert.NotContains(t, string(file), `"base":0,`)
	assert.Contains(t, string(file), `,"weather":{"rain":[1,2.0]}`)
}
