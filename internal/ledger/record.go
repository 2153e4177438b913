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

// A Stamp is the version, time and author of a commit.
type Stamp struct {
	Version int64
	At      int64 // milliseconds since 1970 by the writer's clock
	By      string
	From    string
	extra   *extra // nil means nothing
}

// An extra holds members that this code does not know: of a line, and of its entries by name.
type extra struct {
	line    scan.Rest
	entries map[string]scan.Rest
}

// more returns the extra, to add to.
func (s *Stamp) more() *extra {
	if s.extra == nil {
		s.extra = &extra{entries: map[string]scan.Rest{}}
	}
	return s.extra
}

// Time returns At in UTC.
func (s *Stamp) Time() time.Time { return time.UnixMilli(s.At).UTC() }

// A Record is the value of a name after a commit. It never changes. A name that was removed, or
// never written, has a Record without a value.
type Record struct {
	Value value.Value
	*Stamp
	First int64 // the version since which the name has had a value continuously

	// prev is the previous record, kept only for snapshots. Ledger.mu guards writing it; a reader
	// holds a Snapshot.
	prev *Record
}

// Found reports whether there is a value.
func (r *Record) Found() bool { return !r.Value.IsZero() }

// firstOr returns First of a record that follows r at a version.
func (r *Record) firstOr(version int64) int64 {
	if r.Found() {
		return r.First
	}
	return version
}

var never = &Record{Stamp: &Stamp{}}

// A Node holds the newest record of a name while the ledger is open. It is safe for concurrent use.
type Node struct {
	Name string
	rec  atomic.Pointer[Record]

	// ahead is the record from an earlier commit of the group that is being evaluated. Only later
	// commits of the group see it. Guarded by Ledger.io.
	ahead *Record

	mu     sync.Mutex     // guards caches
	caches *[]func() bool // see OnChange; a pointer, since few nodes have any
	flags  atomic.Uint32  // usedRead, usedWritten, crowded
}

const (
	usedRead uint32 = 1 << iota
	usedWritten
	crowded  // it has maxCaches, and none had ended at the last check
	bound    // used outside: it must stay the name's node
	detached // no longer the name's node
)

func newNode(name string) *Node {
	n := &Node{Name: name}
	n.rec.Store(never)
	return n
}

// maxCaches is how many caches a node notifies. Further users compare records instead.
const maxCaches = 16

// OnChange calls drop before another record becomes visible, until drop returns false. OnChange
// returns false if there are too many.
func (n *Node) OnChange(drop func() bool) bool {
	if n.flags.Load()&crowded != 0 {
		return false
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.caches == nil {
		n.caches = new([]func() bool)
	}
	if len(*n.caches) == maxCaches { // ended ones make room
		n.emptyCaches()
	}
	if len(*n.caches) == maxCaches {
		return false
	}
	*n.caches = append(*n.caches, drop)
	return true
}

// emptyCaches calls each drop. mu must be held.
func (n *Node) emptyCaches() {
	*n.caches = slices.DeleteFunc(*n.caches, func(drop func() bool) bool { return !drop() })
	if len(*n.caches) == maxCaches {
		n.flags.Or(crowded)
	} else {
		n.flags.And(^crowded)
	}
}

// IfNewest calls keep if rec is the newest record. A cache that is registered with OnChange and
// filled by keep is dropped before another record is visible.
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

// Record returns the newest visible record.
func (n *Node) Record() *Record { return n.rec.Load() }

// judged returns the record that the next commit of the group sees.
func (n *Node) judged() *Record {
	if n.ahead != nil {
		return n.ahead
	}
	return n.rec.Load()
}

// MarkRead records that the program has read the name.
func (n *Node) MarkRead() { n.mark(usedRead) }

// MarkWritten records that the program has written the name.
func (n *Node) MarkWritten() { n.mark(usedWritten) }

func (n *Node) mark(bit uint32) {
	if n.flags.Load()&bit == 0 {
		n.flags.Or(bit)
	}
}

// Used reports whether the name was read and written since the ledger was opened.
func (n *Node) Used() (read, written bool) {
	f := n.flags.Load()
	return f&usedRead != 0, f&usedWritten != 0
}

// A Named is a name with its record.
type Named struct {
	Name string
	*Record
}

// Entry returns the entry.
func (n Named) Entry() entry.Entry {
	return entry.Entry{Name: n.Name, Value: n.Value, Version: n.Version, Updated: n.Time(), By: n.By, From: n.From}
}

// Tag returns the tag of the record.
func (r *Record) Tag() entry.Tag { return entry.Tag{Version: r.Version, At: r.At} }
