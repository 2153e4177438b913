package ledger

import (
	"iter"
	"slices"
	"strings"
)

// A Snapshot is the state as of one version. It must be released. It is safe
// for concurrent use.
type Snapshot struct {
	l       *Ledger
	Version int64
	epoch   int
	told    Told
}

// Snapshot keeps the present state readable until Release.
func (l *Ledger) Snapshot() *Snapshot {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.snaps++
	s := &Snapshot{l: l, Version: l.version.Load(), epoch: l.ring.epoch}
	s.told, _ = l.marks.at(s.Version)
	return s
}

// Release lets go of what only this snapshot could still read.
func (s *Snapshot) Release() {
	l := s.l
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.snaps--; l.snaps == 0 {
		for _, n := range l.chained {
			n.rec.Load().prev = nil
		}
		l.chained = l.chained[:0]
	}
}

// Record gives a name's record as of the snapshot. The ledger it belongs to
// is given to names that it doesn't have yet, so that it isn't changed by reading.
func (s *Snapshot) Record(name string) *Record {
	s.l.mu.RLock()
	n := s.l.nodes[name]
	s.l.mu.RUnlock()
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

// Entries gives the entries whose names begin with prefix and come after
// after, by the byte order of their names. The body may do anything, commit
// included; Release must come after the walk.
func (s *Snapshot) Entries(prefix, after string) iter.Seq[Named] {
	return func(yield func(Named) bool) {
		for e := range s.all(prefix, after) {
			if e.Found() && !yield(e) {
				return
			}
		}
	}
}

// All gives every name that has a record, also those that were removed, which
// come without a value, by the byte order of the names.
func (s *Snapshot) All() iter.Seq[Named] { return s.all("", "") }

// all is All of the names that begin with prefix and come after after.
func (s *Snapshot) all(prefix, after string) iter.Seq[Named] {
	return func(yield func(Named) bool) {
		nodes := s.l.inOrder()
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

// Changed gives what was set or removed after version, as of the snapshot, by
// the byte order of the names. A removed name comes without a value. It costs
// what changed, where that was not long ago.
func (s *Snapshot) Changed(version int64, prefix, after string) iter.Seq[Named] {
	return func(yield func(Named) bool) {
		for e := range s.since(version, prefix, after) {
			if e.Version > version && !yield(e) {
				return
			}
		}
	}
}

// since gives at least the names that changed after version.
func (s *Snapshot) since(version int64, prefix, after string) iter.Seq[Named] {
	s.l.mu.RLock()
	nodes, known := s.l.ring.after(version)
	s.l.mu.RUnlock()
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

// A Point is where somebody stands who follows a ledger.
type Point struct {
	version int64
	epoch   int
}

// Point is that of the snapshot.
func (s *Snapshot) Point() Point { return Point{s.Version, s.epoch} }

// Since gives what may have changed since a point, by the byte order of the
// names: what was set or removed, and where versions have lost their meaning
// meanwhile, every name that has a record.
func (s *Snapshot) Since(p Point) iter.Seq[Named] {
	if p.epoch != s.epoch {
		return s.All()
	}
	return s.Changed(p.version, "", "")
}
