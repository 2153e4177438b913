package ledger

import (
	"iter"
	"slices"
	"strings"
)

// A Snapshot is the state at one version. It must be released. It is safe for concurrent use.
type Snapshot struct {
	in      *state
	Version int64
	epoch   int
	commit  CommitID
}

// Snapshot keeps the present state readable until Release.
func (s *state) Snapshot() *Snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.snaps++
	now := &Snapshot{in: s, Version: s.version.Load(), epoch: s.ring.epoch}
	now.commit, _ = s.marks.at(now.Version)
	return now
}

// Release frees the records that only this snapshot needed.
func (s *Snapshot) Release() {
	in := s.in
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.snaps--; in.snaps == 0 {
		for _, n := range in.chained {
			n.rec.Load().prev = nil
		}
		in.chained = in.chained[:0]
	}
}

// Record returns the record of a name in the snapshot. It creates no node.
func (s *Snapshot) Record(name string) *Record {
	s.in.mu.RLock()
	n := s.in.nodes[name]
	s.in.mu.RUnlock()
	if n == nil {
		return never
	}
	return s.of(n)
}

func (s *Snapshot) of(n *Node) *Record {
	rec := n.rec.Load()
	for rec.Version > s.Version {
		if rec.prev == nil {
			return never
		}
		rec = rec.prev
	}
	return rec
}

// Entries iterates over the entries whose names begin with prefix and follow after, in byte order.
// The body can do anything, including commit. Release must come after the loop.
func (s *Snapshot) Entries(prefix, after string) iter.Seq[Named] {
	return func(yield func(Named) bool) {
		for e := range s.all(prefix, after) {
			if e.Found() && !yield(e) {
				return
			}
		}
	}
}

// All iterates over every name with a record, in byte order. Removed names come without a value.
func (s *Snapshot) All() iter.Seq[Named] { return s.all("", "") }

// all is All for the names that begin with prefix and follow after.
func (s *Snapshot) all(prefix, after string) iter.Seq[Named] {
	return func(yield func(Named) bool) {
		nodes := s.in.inOrder()
		i, _ := slices.BinarySearchFunc(nodes, max(prefix, after), func(n *Node, name string) int {
			return strings.Compare(n.Name, name)
		})
		for _, n := range nodes[i:] {
			if !strings.HasPrefix(n.Name, prefix) {
				if n.Name > prefix {
					return
				}
				continue
			}
			if n.Name == after && after != "" {
				continue
			}
			if rec := s.of(n); rec != never && !yield(Named{n.Name, rec}) {
				return
			}
		}
	}
}

// Changed iterates over what was set or removed after version, in byte order. Removed names come
// without a value. If that was recent, it costs only the number of changes.
func (s *Snapshot) Changed(version int64, prefix, after string) iter.Seq[Named] {
	return func(yield func(Named) bool) {
		for e := range s.since(version, prefix, after) {
			if e.Version > version && !yield(e) {
				return
			}
		}
	}
}

// since iterates over at least the names that changed after version.
func (s *Snapshot) since(version int64, prefix, after string) iter.Seq[Named] {
	s.in.mu.RLock()
	nodes, known := s.in.ring.after(version)
	s.in.mu.RUnlock()
	if !known {
		return s.all(prefix, after)
	}
	nodes = slices.DeleteFunc(nodes, func(n *Node) bool {
		return !strings.HasPrefix(n.Name, prefix) || after != "" && n.Name <= after
	})
	slices.SortFunc(nodes, byName)
	nodes = slices.Compact(nodes)
	return func(yield func(Named) bool) {
		for _, n := range nodes {
			if rec := s.of(n); rec != never && !yield(Named{n.Name, rec}) {
				return
			}
		}
	}
}

// A Point is the position of a reader that follows a ledger.
type Point struct {
	version int64
	epoch   int
}

// Point returns the position of the snapshot.
func (s *Snapshot) Point() Point { return Point{s.Version, s.epoch} }

// Since iterates over what may have changed since a point, in byte order. If versions have lost
// their meaning, that is every name with a record.
func (s *Snapshot) Since(p Point) iter.Seq[Named] {
	if p.epoch != s.epoch {
		return s.All()
	}
	return s.Changed(p.version, "", "")
}
