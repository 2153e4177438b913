package ledger

import (
	"cmp"
	"iter"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/value"
)

// A state is what is visible of a ledger: its entries, declarations, and what snapshots and watchers need.
// It is safe for concurrent use. Only the goroutine that holds Ledger.io changes entries and declarations.
type state struct {
	mu        sync.RWMutex // guards the following fields
	nodes     map[string]*Node
	sorted    []*Node // never changed, only replaced
	added     []*Node // not in sorted yet
	unordered bool    // no node is in sorted or added yet
	keys      map[string]entry.Declared
	// only declared names may be written
	keysClosed bool
	schema     int64
	oldest     int64   // the version from which changes can be reported
	snaps      int     // the number of open snapshots
	chained    []*Node // their records hold older ones for snapshots
	watchers   watchers
	ring       ring
	marks      marks
	receipts   receipts
	live       int64 // approximate bytes of names and values; -1 means not counted yet
	found      int   // the number of names with a value, if live is counted

	version atomic.Int64                   // of the visible state; stored under mu
	life    atomic.Pointer[journal.Header] // for Life
	naming  atomic.Int64                   // counts how often a name appeared or went, or a declaration changed
	newest  atomic.Int64                   // the newest time of a commit in milliseconds, if Options.Steady is set
	counted atomic.Bool                    // live is kept up to date; stored under mu
}

func newState(marksKept int) state {
	return state{nodes: map[string]*Node{}, keys: map[string]entry.Declared{}, live: -1, watchers: newWatchers(), marks: marks{most: marksKept}}
}

// Life identifies the namespace or board from its creation to its removal. It is journal.AnyLife if a
// repair could not read it.
func (s *state) Life() string {
	if header := s.life.Load(); header != nil {
		return header.LifeID()
	}
	return journal.AnyLife
}

// Version returns the number of visible commits.
func (s *state) Version() int64 { return s.version.Load() }

// Naming returns a number that changes when a name appears or goes, or a declaration changes.
func (s *state) Naming() int64 { return s.naming.Load() }

// Keys returns the declared keys in order of their names.
func (s *state) Keys() []entry.Declared {
	s.mu.RLock()
	defer s.mu.RUnlock()
	keys := make([]entry.Declared, 0, len(s.keys))
	for _, name := range sorted.Keys(s.keys) { // sorting structs would make every app larger
		keys = append(keys, s.keys[name])
	}
	return keys
}

// CountKeys returns the number of declared keys.
func (s *state) CountKeys() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.keys)
}

// KeysClosed reports whether only declared names may be written.
func (s *state) KeysClosed() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.keysClosed
}

// Declared returns the declaration with an ID, if there is one.
func (s *state) Declared(id string) (entry.Declared, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	d, ok := s.keys[id]
	return d, ok
}

// DeclaredFor returns the declaration that covers a name: see entry.DeclaredFor.
func (s *state) DeclaredFor(name string) entry.Declared {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if len(s.keys) == 0 {
		return entry.Declared{Key: entry.Key{Name: name}}
	}
	return entry.DeclaredFor(name, func(id string) (entry.Declared, bool) { d, ok := s.keys[id]; return d, ok })
}

// Schema returns the schema number of the entries.
func (s *state) Schema() int64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.schema
}

// adoptKeys applies declarations and withdrawals. mu must be held.
func (s *state) adoptKeys(keys []entry.Declared) {
	if len(keys) > 0 {
		s.naming.Add(1)
	}
	for _, k := range keys {
		if k.Gone {
			delete(s.keys, k.ID())
		} else {
			s.keys[k.ID()] = k
		}
	}
}

// Oldest returns the oldest version from which Snapshot.Changed reports all changes.
func (s *state) Oldest() int64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.oldest
}

// Count returns the number of names with a value, and the approximate bytes of names and values.
// The first call counts; later ones are cheap.
func (s *state) Count() (names int, bytes int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.live < 0 {
		s.live, s.found = 0, 0
		s.counted.Store(true)
		for name, n := range s.nodes {
			s.count(name, value.Value{}, n.Record().Value)
		}
	}
	return s.found, s.live
}

// count applies a changed value. mu must be held.
func (s *state) count(name string, before, now value.Value) {
	s.live += sizeOf(name, now) - sizeOf(name, before)
	s.found += there(now) - there(before)
}

func sizeOf(name string, v value.Value) int64 {
	if v.IsZero() {
		return 0
	}
	return int64(len(name) + v.JSONLen())
}

func byName(a, b *Node) int { return strings.Compare(a.Name, b.Name) }

// publish makes commits visible and wakes watchers.
func (s *state) publish(commits []pending, now func() time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range commits {
		c := &commits[i]
		for i := range c.changes {
			s.show(c.changes[i].node, c.recs[i])
		}
		s.adoptKeys(c.keys)
		if c.schema >= 0 {
			s.schema = c.schema
		}
		if c.closed >= 0 {
			s.keysClosed = c.closed == 1
		}
		if c.receipt != nil {
			s.receipts.add(c.receipt, now())
		}
		s.version.Store(c.Version)
		s.newest.Store(max(c.At, s.newest.Load()))
		s.marks.add(markedCommit{c.Version, c.end})
		if len(s.watchers.all) > 0 && len(c.changes) > 0 {
			s.wake(func(yield func(string) bool) {
				for i := range c.changes {
					if !yield(c.changes[i].name) {
						return
					}
				}
			})
		}
	}
}

// adopt makes an image visible. header is that of the file if the image is the whole state, and nil if it
// holds changes.
func (s *state) adopt(im *image, header *journal.Header, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	whole := header != nil
	if whole && len(s.nodes) == 0 && len(s.watchers.all) == 0 {
		// At the first load the image becomes the state.
		im.trim()
		s.nodes = im.nodes
		s.unordered = true
		s.ring.from = im.version
	} else {
		s.merge(im, whole)
	}
	if whole {
		s.life.Store(header)
		s.marks.reset(header, im.commits)
		s.receipts.reset(header.Receipts)
		s.keysClosed = false
		clear(s.keys)
		s.naming.Add(1)
		s.oldest = header.Oldest
	} else {
		for _, t := range im.commits {
			s.marks.add(t)
		}
	}
	for _, r := range im.kept { // in the order of their commits
		s.receipts.add(r, now)
	}
	if im.closed >= 0 {
		s.keysClosed = im.closed == 1
	}
	s.adoptKeys(im.keys)
	if im.schema >= 0 {
		s.schema = im.schema
	}
	s.version.Store(im.version)
	s.newest.Store(max(im.at, s.newest.Load()))
}

// merge shows the differences and wakes their watchers. mu must be held.
func (s *state) merge(im *image, whole bool) {
	type differing struct {
		node *Node
		rec  *Record
	}
	var changed []differing
	differ := func(n *Node, rec *Record) {
		old := n.Record()
		if rec.First < 0 {
			rec.First = old.firstOr(-rec.First)
		}
		if old.Version != rec.Version || !value.Equal(old.Value, rec.Value) {
			changed = append(changed, differing{n, rec})
		}
	}
	for name, n := range im.nodes {
		differ(s.nodeLocked(name), n.Record())
	}
	if whole {
		for name, n := range s.nodes {
			if im.nodes[name] == nil && n.Record().Found() {
				differ(n, &Record{Stamp: &Stamp{Version: im.version}})
			}
		}
	}
	sorted.By(changed, func(a, b *differing) int { return cmp.Compare(a.rec.Version, b.rec.Version) })
	if len(changed) > 0 && changed[0].rec.Version <= s.Version() {
		s.ring.reset(im.version) // the past is not the one that was read before
	}
	for _, c := range changed {
		s.show(c.node, c.rec)
	}
	if len(changed) > 0 {
		s.wake(func(yield func(string) bool) {
			for _, c := range changed {
				if !yield(c.node.Name) {
					return
				}
			}
		})
	}
}

// show replaces a record. mu must be held.
func (s *state) show(n *Node, rec *Record) {
	if s.snaps > 0 {
		rec.prev = n.rec.Load()
		s.chained = append(s.chained, n)
	}
	if s.live >= 0 {
		s.count(n.Name, n.Record().Value, rec.Value)
	}
	if n.Record().Found() != rec.Found() {
		s.naming.Add(1)
	}
	s.ring.add(rec.Version, n)
	n.set(rec)
}

// wake notifies the watchers of changed names, and those of everything. mu must be held.
func (s *state) wake(names iter.Seq[string]) {
	for w := range s.watchers.every {
		w.tell()
	}
	for name := range names {
		s.watchers.tell(name)
	}
}

// wakeAll notifies all watchers. mu must be held.
func (s *state) wakeAll() {
	for w := range s.watchers.all {
		w.tell()
	}
}
