package ledger

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Stamp says which commit it was, when, and by whom.
type Stamp struct {
	Version int64
	At      int64 // milliseconds since 1970, by the clock of the writer
	By      string
	From    string
	extra   *extra // nil: nothing
}

// An extra is what a line holds that this code doesn't know: members of its
// own, and of entries that it sets, by name.
type extra struct {
	line    scan.Rest
	entries map[string]scan.Rest
}

// more gives the extra of a stamp, to be added to.
func (s *Stamp) more() *extra {
	if s.extra == nil {
		s.extra = &extra{entries: map[string]scan.Rest{}}
	}
	return s.extra
}

// Time gives At as a time, in UTC.
func (s *Stamp) Time() time.Time { return time.UnixMilli(s.At).UTC() }

// A Record is a name's value as one commit left it. It never changes. A name
// that was removed has a Record without a value, and so has one that never was.
type Record struct {
	Value value.Value
	*Stamp
	First int64 // the version since which the name has held a value without a break

	// prev is the record before, kept only while a Snapshot may ask for it.
	// Guarded by Ledger.mu for writing; a reader holds a Snapshot.
	prev *Record
}

// Found says whether there is a value.
func (r *Record) Found() bool { return !r.Value.IsZero() }

// firstOr gives First for a record that comes after r at a version.
func (r *Record) firstOr(version int64) int64 {
	if r.Found() {
		return r.First
	}
	return version
}

var never = &Record{Stamp: &Stamp{}}

// A Node is a name's place in a ledger. It stays the same as long as the
// ledger is open. It is safe for concurrent use.
type Node struct {
	Name string
	rec  atomic.Pointer[Record]

	// ahead is what a commit of the group that is being judged makes of the
	// name: those after it see it, and nobody else yet. Guarded by Ledger.io.
	ahead *Record

	mu     sync.Mutex     // guards caches
	caches *[]func() bool // see OnChange; a pointer, since few nodes have any
	flags  atomic.Uint32  // usedRead, usedWritten, crowded
}

const (
	usedRead uint32 = 1 << iota
	usedWritten
	crowded  // there are maxCaches, none of which had ended when last seen
	bound    // somebody outside keeps it: it must stay the name's node
	detached // it is the name's node no more
)

func newNode(name string) *Node {
	n := &Node{Name: name}
	n.rec.Store(never)
	return n
}

// maxCaches is how many caches a node tells of a change. Whoever comes when
// there are so many compares records instead.
const maxCaches = 16

// OnChange has drop called whenever another record is about to become visible,
// until it returns false. It returns false itself when too many are there.
func (n *Node) OnChange(drop func() bool) bool {
	if n.flags.Load()&crowded != 0 {
		return false
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.caches == nil {
		n.caches = new([]func() bool)
	}
	if len(*n.caches) == maxCaches { // those that have ended make room
		n.emptyCaches()
	}
	if len(*n.caches) == maxCaches {
		return false
	}
	*n.caches = append(*n.caches, drop)
	return true
}

// emptyCaches calls each drop; mu must be held.
func (n *Node) emptyCaches() {
	*n.caches = slices.DeleteFunc(*n.caches, func(drop func() bool) bool { return !drop() })
	if len(*n.caches) == maxCaches {
		n.flags.Or(crowded)
	} else {
		n.flags.And(^crowded)
	}
}

// IfNewest calls keep when rec is the newest record. What keep puts in a cache
// that OnChange knows is gone before another record can be seen.
func (n *Node) IfNewest(rec *Record, keep func()) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.rec.Load() == rec {
		keep()
	}
}

// set makes a record the newest.
func (n *Node) set(rec *Record) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.caches != nil {
		n.emptyCaches()
	}
	n.rec.Store(rec)
}

// Record gives the newest record that is visible.
func (n *Node) Record() *Record { return n.rec.Load() }

// judged gives the record that the next commit finds.
func (n *Node) judged() *Record {
	if n.ahead != nil {
		return n.ahead
	}
	return n.rec.Load()
}

// MarkRead notes that the program has read the name.
func (n *Node) MarkRead() { n.mark(usedRead) }

// MarkWritten notes that the program has written the name.
func (n *Node) MarkWritten() { n.mark(usedWritten) }

func (n *Node) mark(bit uint32) {
	if n.flags.Load()&bit == 0 {
		n.flags.Or(bit)
	}
}

// Used says whether the name was read and written since the ledger was opened.
func (n *Node) Used() (read, written bool) {
	f := n.flags.Load()
	return f&usedRead != 0, f&usedWritten != 0
}

// A Named is a name with its record.
type Named struct {
	Name string
	*Record
}

// Entry gives what the record says of the name.
func (n Named) Entry() entry.Entry {
	return entry.Entry{Name: n.Name, Value: n.Value, Version: n.Version, Updated: n.Time(), By: n.By, From: n.From}
}

// Tag is that of the record.
func (r *Record) Tag() entry.Tag { return entry.Tag{Version: r.Version, At: r.At} }
