package etcd

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
)

// secondNode is a further etcd, which ends with the test.
func secondNode(t *testing.T) []string {
	t.Helper()
	members, err := node.Plan(t.TempDir(), 1)
	require.NoError(t, err)
	members[0].NoSync = true
	n, err := node.Start(members[0], members)
	require.NoError(t, err)
	t.Cleanup(n.Close)
	require.NoError(t, n.Ready(20*time.Second))
	return node.Endpoints(members)
}

// A board is moved to another group and back, many times, while two servers add to it: no addition is lost or
// counted twice, its life and its past stay, and a reader never goes back.
func TestMoveWhileServing(t *testing.T) {
	t.Parallel()
	o := Options{Groups: []Group{{Name: "east", Endpoints: secondNode(t)}}}
	prefix := newPrefix()
	a, b, operator := open(t, prefix, o), open(t, prefix, o), open(t, prefix, o)
	l, release, err := a.Board(t.Context(), "rowan-street", true)
	require.NoError(t, err)
	life := l.Life()
	release()
	ctx, stop := context.WithCancel(t.Context())
	var done, maybe atomic.Int64
	var all sync.WaitGroup
	for i := range 4 {
		all.Go(func() {
			var last int64
			for ctx.Err() == nil {
				l, release, err := []*Store{a, b}[i%2].Board(t.Context(), "rowan-street", false)
				if !assert.NoError(t, err, "it never seems to be gone") {
					return
				}
				_, err = rules.Commit(l, rules.Call{Edits: add("n", 1)})
				switch {
				case err == nil:
					done.Add(1)
					assert.Greater(t, l.Version(), last)
					last = l.Version()
				case errors.Is(err, ledger.ErrUncertain):
					maybe.Add(1)
				default: // it was closed, since it was moved
					assert.True(t, errors.Is(err, ledger.ErrClosed) || errors.Is(err, journal.ErrBusy), "%v", err)
				}
				release()
			}
		})
	}
	for i := range 10 {
		_, err := operator.Move(t.Context(), "rowan-street", []string{"east", ""}[i%2])
		require.NoError(t, err)
		before := done.Load()
		require.Eventually(t, func() bool { return done.Load() > before+5 }, hang.Patience, time.Millisecond, "it is served on")
	}
	stop()
	all.Wait()
	for {
		l, release, err = b.Board(t.Context(), "rowan-street", false)
		require.NoError(t, err)
		if err = l.Current(t.Context()); !errors.Is(err, ledger.ErrClosed) {
			break
		}
		release() // of the group that it was moved from
	}
	require.NoError(t, err)
	defer release()
	version, n := count(l)
	assert.GreaterOrEqual(t, n, done.Load())
	assert.LessOrEqual(t, n, done.Load()+maybe.Load())
	assert.Equal(t, version, n)
	assert.Equal(t, life, l.Life())
	changes, err := l.History(5)
	require.NoError(t, err)
	assert.Len(t, changes, 5)
	found, err := operator.Strays(t.Context())
	require.NoError(t, err)
	assert.Empty(t, found)
}

// A move that was interrupted anywhere is continued by the next. Meanwhile the board is busy, and not gone; it is
// no stray, and a backup does not leave it out.
func TestInterruptedMove(t *testing.T) {
	t.Parallel()
	s := open(t, newPrefix(), Options{Groups: []Group{{Name: "east", Endpoints: secondNode(t)}}})
	east := s.groups[1]
	make := func(board string) head {
		l, release, err := s.Board(t.Context(), board, true)
		require.NoError(t, err)
		_, err = rules.Commit(l, rules.Call{Edits: add("n", 7)})
		require.NoError(t, err)
		release()
		_, err = s.Move(t.Context(), board, "")
		require.NoError(t, err)
		_, h, _, _, err := s.locate(t.Context(), board)
		require.NoError(t, err)
		frozen := *h
		frozen.Gone, frozen.Moved = "x", new("east")
		require.NoError(t, s.g.put(t.Context(), s.g.keys.head(board), frozen.value()))
		return frozen
	}
	make("frozen")
	copied := make("copied")
	_, base, err := east.headOf(t.Context(), "copied")
	require.NoError(t, err)
	require.NoError(t, s.copyFrozen(t.Context(), "copied", s.g, east, copied, base))
	for _, board := range []string{"frozen", "copied"} {
		short, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
		_, err := s.find(short, board)
		cancel()
		assert.ErrorIs(t, err, journal.ErrBusy, board)
		assert.NotErrorIs(t, err, store.ErrNoBoard, board)
	}
	strays, err := s.Strays(t.Context())
	require.NoError(t, err)
	for _, one := range strays {
		assert.NotEqual(t, "frozen", one.Board)
		require.NoError(t, s.Mend(t.Context(), one), "which does no harm")
	}
	_, err = s.Backup(t.Context(), io.Discard)
	assert.ErrorIs(t, err, errMoving)
	_, err = s.Move(t.Context(), "frozen", "west")
	assert.ErrorIs(t, err, ErrNoGroup)
	_, err = s.Move(t.Context(), "nowhere", "east")
	assert.ErrorIs(t, err, store.ErrNoBoard)
	for _, board := range []string{"frozen", "copied"} {
		_, err := s.Move(t.Context(), board, "east")
		require.NoError(t, err, board)
		l, release, err := s.Board(t.Context(), board, false)
		require.NoError(t, err, board)
		_, n := count(l)
		assert.EqualValues(t, 7, n)
		release()
		require.NoError(t, s.Remove(t.Context(), board, l.Life()))
		_, _, err = s.Board(t.Context(), board, false)
		assert.ErrorIs(t, err, store.ErrNoBoard)
	}
	strays, err = s.Strays(t.Context())
	require.NoError(t, err)
	assert.Empty(t, strays)
	_, err = s.Backup(t.Context(), io.Discard)
	assert.NoError(t, err)
}
