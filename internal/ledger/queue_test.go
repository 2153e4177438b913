package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/simdisk"
)

// A leader that waits too long, as on a disk that stalls, does not expire: it has no channel for the refusal.
// The requests behind it expire.
func TestExpireKeepsTheLeader(t *testing.T) {
	t.Parallel()
	l, err := Open(t.TempDir(), "board", Options{Disk: simdisk.New()})
	require.NoError(t, err)
	old := time.Now().Add(-time.Hour)
	lead, err := l.queue.enqueue(&request{queuedAt: old})
	require.NoError(t, err)
	require.True(t, lead)
	behind := &request{queuedAt: old}
	lead, err = l.queue.enqueue(behind)
	require.NoError(t, err)
	require.False(t, lead)
	l.queue.expire()
	assert.False(t, <-behind.turn)
	assert.ErrorIs(t, behind.err, journal.ErrBusy)
	assert.Equal(t, 1, l.Waiting())
	l.queue.waiting, l.queue.leading = nil, false
	require.NoError(t, l.Close())
}
