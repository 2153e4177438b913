package ledger

import (
	"iter"
	"maps"
	"slices"
)

// Node returns the node of a name, whether or not it was ever written. It stays valid while the
// ledger is open.
func (s *state) Node(name string) *Node {
	n := s.Passing(name)
	if n.flags.Or(bound)&detached == 0 {
		return n
	}
	s.mu.Lock() // it was just removed
	defer s.mu.Unlock()
	n = s.nodeLocked(name)
	n.flags.Or(bound)
	return n
}

// Passing returns the node of a name for one operation. It can be removed once nothing is stored
// under the name.
func (s *state) Passing(name string) *Node {
	if n := s.Find(name); n != nil {
		return n
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.nodeLocked(name)
}

// Find returns the node of a name, or nil. It creates nothing.
func (s *state) Find(name string) *Node {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.nodes[name]
}

// forgetNodes removes the nodes of names that hold nothing and are not used. kept are removed
// names that are still known. mu must be held.
func (s *state) forgetNodes(kept map[string]bool) {
	if s.snaps > 0 {
		return // snapshots may use them
	}
	left := len(s.nodes)
	for name, n := range s.nodes {
		if n.Record().Found() || kept[name] || n.ahead != nil {
			continue
		}
		if n.flags.Or(detached)&bound != 0 {
			n.flags.And(^detached)
			continue
		}
		delete(s.nodes, name)
	}
	if len(s.nodes) < left {
		nodes := make(map[string]*Node, len(s.nodes)) // a map never shrinks
		maps.Copy(nodes, s.nodes)
		s.nodes, s.sorted, s.added, s.unordered = nodes, nil, nil, true
		s.ring.reset(s.version.Load())
		s.ring.epoch-- // versions keep their meaning; only the ring starts over
	}
}

// nodeLocked returns the node of a name. mu must be held.
func (s *state) nodeLocked(name string) *Node {
	n := s.nodes[name]
	if n == nil {
		n = newNode(name)
		s.nodes[name] = n
		if !s.unordered {
			s.added = append(s.added, n)
		}
	}
	return n
}

// Nodes iterates over the names that are stored or were requested, in order.
func (s *state) Nodes() iter.Seq[*Node] { return slices.Values(s.inOrder()) }

// Moment returns the records of several nodes at one moment. If they are those of have, it returns
// have and true.
func (s *state) Moment(nodes []*Node, have []*Record) (recs []*Record, same bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	same = have != nil
	for i := 0; same && i < len(nodes); i++ {
		same = nodes[i].rec.Load() == have[i]
	}
	if same {
		return have, true
	}
	recs = make([]*Record, len(nodes))
	for i, n := range nodes {
		recs[i] = n.rec.Load()
	}
	return recs, false
}

// inOrder returns all nodes by name. The slice must not be changed.
func (s *state) inOrder() []*Node {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.unordered {
		s.unordered, s.added = false, slices.Collect(maps.Values(s.nodes))
	}
	if len(s.added) > 0 {
		slices.SortFunc(s.added, byName)
		all := make([]*Node, 0, len(s.sorted)+len(s.added))
		a, b := s.sorted, s.added
		for len(a) > 0 && len(b) > 0 {
			if a[0].Name < b[0].Name {
				all, a = append(all, a[0]), a[1:]
			} else {
				all, b = append(all, b[0]), b[1:]
			}
		}
		s.sorted, s.added = append(append(all, a...), b...), nil
	}
	return s.sorted
}
