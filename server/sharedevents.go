package server

import (
	"hash/maphash"
	"sync/atomic"

	"github.com/small-pantry/pantry/internal/mark"
)

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
// It serves the row "a PUT of a name that 2,000 streams watch" in docs/benchmarks.md: without it, each
// stream would encode each change.
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
