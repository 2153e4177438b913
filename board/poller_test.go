package board

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func testPoller(o options) *poller {
	p := newPoller(context.Background(), &connection{}, &reporter{onProblem: o.onProblem}, &o)
	p.answer = func() {}
	return p
}

// Polls are quick while things change, and for thirty seconds after; then they slow down.
func TestPauses(t *testing.T) {
	t.Parallel()
	p := testPoller(options{fast: 2 * time.Second, slow: 15 * time.Second})
	now := time.Now()
	p.transports.news = now
	var pauses []time.Duration
	for at := time.Duration(0); at < 90*time.Second; {
		pause := p.pauseAfter(now.Add(at))
		if at < 30*time.Second {
			assert.InDelta(t, 2, pause.Seconds(), 0.21, "after %v", at)
		}
		at += pause
		pauses = append(pauses, pause)
	}
	last := pauses[len(pauses)-1]
	assert.InDelta(t, 15, last.Seconds(), 1.6)
	assert.Less(t, len(pauses), 25)
	p.transports.news = now.Add(90 * time.Second)
	assert.InDelta(t, 2, p.pauseAfter(now.Add(91*time.Second)).Seconds(), 0.21, "and quick again")
	different := map[time.Duration]bool{}
	for range 10 {
		different[p.pauseAfter(now.Add(91*time.Second))] = true
	}
	assert.Greater(t, len(different), 5, "many phones don't ask in step")
}

// Where streams don't work, requests wait; where these don't either, polls ask; and what
// did not work is tried again after a while.
func TestTransports(t *testing.T) {
	t.Parallel()
	now := time.Now()
	p := testPoller(options{fast: time.Second, slow: time.Second})
	transport := func(at time.Duration) string { return p.next(now.Add(at)).name() }
	assert.Equal(t, "poll", transport(0), "nothing is requested")
	p.view.bind("a")
	assert.Equal(t, "push", transport(0))
	byStream{}.notNow(p)
	assert.Equal(t, "poll", transport(0), "nothing is known to wait after")
	p.view.replica.mark.Tag = "00000000"
	assert.Equal(t, "wait", transport(0))
	p.transports.waitAt = now.Add(tryAgain)
	assert.Equal(t, "poll", transport(0))
	assert.Equal(t, "push", transport(2*tryAgain))
	p.status.Err = ErrUnreachable
	assert.Equal(t, "poll", transport(2*tryAgain), "is it there at all?")
	p.status.Err = nil
	for range 10 { // something on the way cuts each stream soon
		byStream{}.ended(p, time.Second, errReopen)
	}
	assert.Greater(t, time.Until(p.transports.streamAt), 30*time.Second)
	assert.LessOrEqual(t, time.Until(p.transports.streamAt), tryAgain)
	p.opts.noPush = true
	assert.Equal(t, "poll", transport(5*tryAgain))
}

// After Close has ended the goroutines, none starts, and only the first end says so.
func TestTasks(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	var all tasks
	over := false
	assert.True(t, all.start(func() { <-ctx.Done(); over = true }))
	assert.True(t, all.end(cancel))
	assert.True(t, over, "end waits")
	assert.False(t, all.end(cancel))
	assert.False(t, all.start(func() { t.Error("it runs after end") }))
}
