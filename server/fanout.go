package server

import (
	"hash/maphash"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/mark"
)

// halfOfProcessors is how many streams send a change at the same time, and how many calls with large
// bodies are executed. While thousands of streams send, the other processors look at the network and
// answer requests. Go does not look at the network while it has goroutines to run.
func halfOfProcessors() int { return max(1, runtime.GOMAXPROCS(0)/2) }

// A fanOut is the places of streams that send a change, or of large bodies that arrive.
type fanOut chan *place

// A place is used by one stream at a time. It rests for as long as its streams work: thousands of streams would
// otherwise keep a processor busy, and their readers the others, while a request waits for each.
type place struct {
	worked time.Duration // by its streams, less the time in which there was no stream
	left   time.Time     // when the last one left it
}

// begin lets the place rest if it has worked for a spell.
func (p *place) begin() {
	if p.worked = max(p.worked-time.Since(p.left), 0); p.worked >= spell {
		time.Sleep(p.worked)
		p.worked = 0
	}
}

func (p *place) end(worked time.Duration) {
	p.worked += worked
	p.left = time.Now()
}

// perByte is about how long reading a byte of a body takes.
const perByte = time.Nanosecond

// arrived counts n bytes of a body that were read, and rests as for work of that time. The body has no place
// while it waits for the network, so that slow senders hold up no others.
func (f fanOut) arrived(n int) {
	p := <-f
	p.begin()
	p.end(time.Duration(n) * perByte)
	f <- p
}

const (
	// spell is how long a place works before it rests.
	spell = 250 * time.Microsecond
	// longestTurn is how long a stream keeps its place, so that slow readers do not hold up others.
	longestTurn = time.Millisecond
)

func newFanOut(places int) fanOut {
	f := make(fanOut, places)
	for range cap(f) {
		f <- new(place)
	}
	return f
}

// A turn is the use of a place. It ends when the change is sent, or after a short time. The zero turn is none.
type turn struct {
	end  func()
	late *time.Timer
}

// take waits for a turn.
func (t *turn) take(f fanOut) {
	p := <-f
	p.begin()
	start := time.Now()
	t.end = sync.OnceFunc(func() {
		p.end(time.Since(start))
		f <- p
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

// An eventID identifies the change of a selection since a mark.
type eventID struct {
	board, selection, within string
	since                    mark.Mark
	version                  int64 // of the board
}

// A sharedEvent is a change as it is sent.
type sharedEvent struct {
	eventID
	mark mark.Mark
	text string
}

// sharedEvents holds a few of the newest changes that streams have sent. It is safe for concurrent use.
type sharedEvents [16]atomic.Pointer[sharedEvent]

var eventSeed = maphash.MakeSeed()

func (s *sharedEvents) slot(id eventID) *atomic.Pointer[sharedEvent] {
	return &s[maphash.Comparable(eventSeed, [2]string{id.board, id.selection})%uint64(len(s))]
}

// find returns the event with an ID, or nil.
func (s *sharedEvents) find(id eventID) *sharedEvent {
	if e := s.slot(id).Load(); e != nil && e.eventID == id {
		return e
	}
	return nil
}

func (s *sharedEvents) keep(e *sharedEvent) { s.slot(e.eventID).Store(e) }
