package board

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Polls are quick while things change, and for thirty seconds after; then they slow down.
func TestPauses(t *testing.T) {
	t.Parallel()
	b := &Board{opts: options{fast: 2 * time.Second, slow: 15 * time.Second}}
	now := time.Now()
	b.ways.news = now
	var pauses []time.Duration
	for at := time.Duration(0); at < 90*time.Second; {
		p := b.pauseAfter(now.Add(at))
		if at < 30*time.Second {
			assert.InDelta(t, 2, p.Seconds(), 0.21, "after %v", at)
		}
		at += p
		pauses = append(pauses, p)
	}
	last := pauses[len(pauses)-1]
	assert.InDelta(t, 15, last.Seconds(), 1.6)
	assert.Less(t, len(pauses), 25)
	b.ways.news = now.Add(90 * time.Second)
	assert.InDelta(t, 2, b.pauseAfter(now.Add(91*time.Second)).Seconds(), 0.21, "and quick again")
	different := map[time.Duration]bool{}
	for range 10 {
		different[b.pauseAfter(now.Add(91*time.Second))] = true
	}
	assert.Greater(t, len(different), 5, "many phones don't ask in step")
}

// Where streams don't work, requests wait; where these don't either, polls ask; and what
// did not work is tried again after a while.
func TestWays(t *testing.T) {
	t.Parallel()
	now := time.Now()
	b := &Board{view: newView(), opts: options{fast: time.Second, slow: time.Second}}
	way := func(at time.Duration) string { return b.next(now.Add(at)).name() }
	assert.Equal(t, "poll", way(0), "nothing is asked for")
	b.view.bind("a")
	assert.Equal(t, "push", way(0))
	byStream{}.notNow(b)
	assert.Equal(t, "poll", way(0), "nothing is known to wait after")
	b.view.mark.Tag = "00000000"
	assert.Equal(t, "wait", way(0))
	b.ways.waitAt = now.Add(tryAgain)
	assert.Equal(t, "poll", way(0))
	assert.Equal(t, "push", way(2*tryAgain))
	b.status.Err = ErrUnreachable
	assert.Equal(t, "poll", way(2*tryAgain), "is it there at all?")
	b.status.Err = nil
	for range 10 { // something on the way cuts each stream soon
		byStream{}.ended(b, time.Second, errReopen)
	}
	assert.Greater(t, time.Until(b.ways.streamAt), 30*time.Second)
	assert.LessOrEqual(t, time.Until(b.ways.streamAt), tryAgain)
	b.opts.noPush = true
	assert.Equal(t, "poll", way(5*tryAgain))
}
