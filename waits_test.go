package pantry_test

import (
	"context"
	"os"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/journal"
)

// held takes the lock of plotbook as another process would, until free is called.
func held(t *testing.T, dir string) (free func()) {
	t.Helper()
	f, err := journal.Attach(journal.OS, dir, "plotbook", false)
	require.NoError(t, err)
	require.NoError(t, f.Lock(true, time.Second))
	return func() {
		require.NoError(t, f.Unlock())
		require.NoError(t, f.Close())
	}
}

// A write from within the function of another is refused when its time is over, and leaves
// nothing behind.
func TestWriteWithinAWrite(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testWriteWithinAWrite)
}

func testWriteWithinAWrite(t *testing.T) {
	ns := open(t, t.TempDir())
	hour := reminderHour.In(ns)
	_, err := hour.Update(func(old int) (int, error) { return old, hour.Set((old + 2) % 24) })
	assert.ErrorIs(t, err, pantry.ErrBusy, "it can't have it both ways, however often it runs")
	require.NoError(t, hour.Set(7))
	assert.Equal(t, 7, hour.Get())
}

// Open waits for the lock of its own namespace only.
func TestOpenBesideALock(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testOpenBesideALock)
}

func testOpenBesideALock(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, open(t, dir).Close())
	free := held(t, dir)
	opened := make(chan error, 1)
	go func() {
		ns, err := pantry.Open(dir, "plotbook", quiet)
		if err == nil {
			err = ns.Close()
		}
		opened <- err
	}()
	time.Sleep(20 * time.Millisecond) // the other Open waits for the lock now
	other, err := pantry.Open(dir, "gatehouse", quiet)
	require.NoError(t, err)
	require.NoError(t, other.Close())
	free()
	require.NoError(t, <-opened)
}

// A Watch ends with its context, also while another process keeps the lock that it would read under.
func TestWatchEndsWithItsContext(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testWatchEndsWithItsContext)
}

func testWatchEndsWithItsContext(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, reminderHour.In(open(t, dir)).Set(1))
	r := open(t, dir, pantry.ReadOnly(), pantry.Follow(time.Millisecond))
	free := held(t, dir)
	file, err := os.OpenFile(r.Path(), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.Write(journal.Finish([]byte(`{"version":2,"at":"2026-05-03T09:12:44.123Z","set":[{"name":"reminder-hour","kind":"int","value":2}]`), 0))
	require.NoError(t, err)
	require.NoError(t, file.Close())
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for range reminderHour.In(r).Watch(ctx) {
		}
	}()
	time.Sleep(50 * time.Millisecond) // Watch waits for the lock now
	cancel()
	select {
	case <-ended:
	case <-time.After(3 * time.Second): // it waits for a lock for five
		t.Error("a Watch outlives its context")
	}
	free()
	<-ended
}
