package server

import (
	"runtime"
	"sync"
	"time"
)

// halfOfProcessors is how many streams send a change at the same time, and how many calls with large
// bodies are executed. While thousands of streams send, the other processors look at the network and
// answer requests. Go does not look at the network while it has goroutines to run.
func halfOfProcessors() int { return max(1, runtime.GOMAXPROCS(0)/2) }

// A pacer lets one stream at a time send a change, and rests in between: thousands of streams would
// otherwise keep a processor busy, and their readers the others, while a request waits for each.
type pacer struct {
	worked time.Duration // by its streams, less the time in which there was no stream
	left   time.Time     // when the last stream was done
}

const (
	// spell is how long the streams of a pacer work before it rests for half of that time.
	spell = 500 * time.Microsecond
	// longestTurn is how long a stream keeps its turn, so that slow readers do not hold up others.
	longestTurn = time.Millisecond
)

// pacers has a turn for each pacer that is free.
type pacers chan *pacer

func newPacers(n int) pacers {
	ps := make(pacers, n)
	for range n {
		ps <- new(pacer)
	}
	return ps
}

// A turn to send ends when the change is sent, or after a short time. The zero turn is none.
type turn struct {
	end  func()
	late *time.Timer
}

// take waits for a turn.
func (t *turn) take(ps pacers) {
	p := <-ps
	if p.worked = max(p.worked-time.Since(p.left), 0); p.worked >= spell {
		time.Sleep(p.worked / 2)
		p.worked = 0
	}
	start := time.Now()
	t.end = sync.OnceFunc(func() {
		p.left = time.Now()
		p.worked += p.left.Sub(start)
		ps <- p
	})
	t.late = time.AfterFunc(longestTurn, t.end)
}

// leave ends the turn, if there is one.
func (t *turn) leave() {
	if t.end != nil {
		t.late.Stop()
		t.end()
		t.end = nil
	}
}
