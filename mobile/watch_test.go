package mobile_test

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/mobile"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A screen is a runner whose thread runs posted functions in order.
type screen struct {
	mu     sync.Mutex
	posted []*mobile.Task
	seen   []int64
	get    func() int64
}

func (s *screen) Post(t *mobile.Task) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.posted = append(s.posted, t)
}

func (s *screen) Changed() { s.seen = append(s.seen, s.get()) }

// draw does what was posted, and says how much that was.
func (s *screen) draw() int {
	s.mu.Lock()
	posted := s.posted
	s.posted = nil
	s.mu.Unlock()
	for _, t := range posted {
		t.Run()
	}
	return len(posted)
}

// A slow screen skips what it could not have shown, and sees the newest.
func TestWatch(t *testing.T) {
	t.Parallel()
	a := declared()
	ns := open(t, a, t.TempDir())
	hour := must[*mobile.IntVar](t)(a.hour.Bind(ns))
	s := &screen{get: func() int64 { return must[int64](t)(hour.Get()) }}
	w, err := hour.Watch(s, s)
	require.NoError(t, err)
	drawn := func() int {
		n := 0
		require.Eventually(t, func() bool { n = s.draw(); return n > 0 }, hang.Patience, time.Millisecond)
		return n
	}
	assert.Equal(t, 1, drawn())
	assert.Equal(t, []int64{18}, s.seen)
	for n := range int64(20) {
		require.NoError(t, hour.Set(n))
	}
	time.Sleep(50 * time.Millisecond) // more than one would be posted in this time; nothing marks that none was
	assert.LessOrEqual(t, drawn(), 1, "one waits at a time")
	require.Eventually(t, func() bool { s.draw(); return s.seen[len(s.seen)-1] == 19 }, hang.Patience, time.Millisecond)
	assert.Less(t, len(s.seen), 10)
	require.NoError(t, hour.Set(5))
	require.Eventually(t, func() bool { s.mu.Lock(); defer s.mu.Unlock(); return len(s.posted) == 1 }, hang.Patience, time.Millisecond)
	w.Stop()
	before := len(s.seen)
	s.draw()
	assert.Len(t, s.seen, before, "what was posted before does nothing")
	all, err := ns.Watch(s, s)
	require.NoError(t, err)
	assert.Equal(t, 1, drawn())
	all.Stop()
}

// crowd is a Runner that runs each task at once in a goroutine of its own, as no platform should.
type crowd struct {
	posted  atomic.Int32
	entered chan struct{}
	leave   chan struct{}
}

func (c *crowd) Post(task *mobile.Task) {
	c.posted.Add(1)
	go task.Run()
}

func (c *crowd) Changed() {
	c.entered <- struct{}{}
	<-c.leave
}

// Handlers run one after the other, with any Runner of the platform.
func TestHandlersRunOneAfterTheOther(t *testing.T) {
	t.Parallel()
	a := declared()
	ns := open(t, a, t.TempDir())
	hour := must[*mobile.IntVar](t)(a.hour.Bind(ns))
	c := &crowd{entered: make(chan struct{}), leave: make(chan struct{})}
	w, err := hour.Watch(c, c)
	require.NoError(t, err)
	<-c.entered
	require.NoError(t, hour.Set(5))
	require.Eventually(t, func() bool { return c.posted.Load() == 2 }, hang.Patience, time.Millisecond)
	select {
	case <-c.entered:
		t.Fatal("the handler is called while it runs")
	case <-time.After(50 * time.Millisecond): // a second call would begin in this time; nothing marks that none does
	}
	c.leave <- struct{}{}
	<-c.entered
	c.leave <- struct{}{}
	w.Stop()
	require.NoError(t, ns.Close())
}
