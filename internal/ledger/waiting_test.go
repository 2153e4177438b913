package ledger_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
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

// So many may wait and no more: the next is refused at once, and those who
// wait are served.
func TestQueueIsBounded(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testQueueIsBounded)
}

func testQueueIsBounded(t *testing.T) {
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New(), Wait: time.Minute})
	require.NoError(t, err)
	started, goOn := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		_, err := l.Commit(entry.Author{}, func(*ledger.Tx) error { close(started); <-goOn; return nil })
		assert.NoError(t, err)
	})
	<-started
	for i := range ledger.MaxQueue {
		all.Go(func() { assert.NoError(t, put(l, fmt.Sprint("n", i%7), value.Int(int64(i)))) })
	}
	untilWaiting(l, ledger.MaxQueue)
	assert.ErrorIs(t, put(l, "n", value.Int(1)), journal.ErrBusy)
	close(goOn)
	all.Wait()
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, l.Close())
}

// A commit in the queue waits for all of the time that is allowed, and not for
// what those before it have waited.
func TestWaitIsNotCutShort(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testWaitIsNotCutShort)
}

func testWaitIsNotCutShort(t *testing.T) {
	const wait = 200 * time.Millisecond
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New(), Wait: wait})
	require.NoError(t, err)
	started, goOn := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		_, err := l.Commit(entry.Author{}, func(*ledger.Tx) error { close(started); <-goOn; return nil })
		assert.NoError(t, err)
	})
	<-started
	for range 4 {
		all.Go(func() {
			came := time.Now()
			assert.ErrorIs(t, put(l, "late", value.Int(1)), journal.ErrBusy)
			assert.GreaterOrEqual(t, time.Since(came), wait)
		})
		time.Sleep(wait / 4)
	}
	for l.Waiting() > 0 {
		time.Sleep(time.Millisecond)
	}
	close(goOn)
	all.Wait()
	require.NoError(t, l.Close())
}

// A judge that panics, or ends its goroutine, leaves no state behind. Waiting callers are answered, and
// commits succeed.
func TestJudgeThatEnds(t *testing.T) {
	t.Parallel()
	l := openSim(t, simdisk.New(), t.TempDir())
	require.NoError(t, put(l, "n", value.Int(1)))
	for range 3 {
		gone := make(chan struct{})
		go func() {
			defer close(gone)
			_, _ = l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
				enc, _ := ledger.Encode(value.Int(99))
				tx.Put("n", enc)
				runtime.Goexit()
				return nil
			})
		}()
		<-gone
		errs := together(l, func() {}, func() error { return put(l, "m", value.Int(2)) }, func() error {
			done := make(chan struct{})
			go func() {
				defer close(done)
				_, _ = l.Commit(entry.Author{}, func(*ledger.Tx) error { runtime.Goexit(); return nil })
			}()
			<-done
			return nil
		})
		if errs[0] != nil {
			assert.ErrorIs(t, errs[0], ledger.ErrNotStored)
		}
		require.NoError(t, put(l, "m", value.Int(3)))
		assert.Equal(t, []int64{1, 3}, []int64{get(l, "n"), get(l, "m")})
		require.NoError(t, put(l, "m", value.Int(4)))
	}
	require.NoError(t, l.Close())
}

// A caller that waits for the lock of another process waits for the allowed time. So does each later caller,
// from its own start.
func TestBusyLock(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testBusyLock)
}

func testBusyLock(t *testing.T) {
	const wait = 150 * time.Millisecond
	dir := t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Wait: wait})
	require.NoError(t, err)
	f, err := journal.Attach(journal.OS, dir, "board", false)
	require.NoError(t, err)
	require.NoError(t, f.Lock(true, time.Second))
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			came := time.Now()
			assert.ErrorIs(t, put(l, "n", value.Int(1)), journal.ErrBusy)
			assert.GreaterOrEqual(t, time.Since(came), wait)
			assert.Less(t, time.Since(came), 20*wait, "nor for what the others wait")
		})
		time.Sleep(wait / 3)
	}
	all.Wait()
	ctx, cancel := context.WithCancel(t.Context())
	w := l.Watch(nil, nil)
	cancel()
	assert.False(t, w.Wait(ctx, nil))
	w.Close()
	require.NoError(t, f.Unlock())
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NoError(t, errors.Join(l.Close(), f.Close()))
}
