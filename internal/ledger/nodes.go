package ledger

import (
	"iter"
	"maps"
	"slices"
)

// Node returns the node of a name, whether or not it was ever written. It stays valid while the
// ledger is open.
func (l *Ledger) Node(name string) *Node {
	n := l.Passing(name)
	if n.flags.Or(bound)&detached == 0 {
		return n
	}
	l.mu.Lock() // it was just removed
	defer l.mu.Unlock()
	n = l.nodeLocked(name)
	n.flags.Or(bound)
	return n
}

// Passing returns the node of a name for one operation. It can be removed once nothing is stored
// under the name.
func (l *Ledger) Passing(name string) *Node {
	if n := l.Find(name); n != nil {
		return n
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.nodeLocked(name)
}

// Find returns the node of a name, or nil. It creates nothing.
func (l *Ledger) Find(name string) *Node {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.nodes[name]
}

// forgetNodes removes the nodes of names that hold nothing and are not used. kept are removed
// names that are still known. mu must be held.
func (l *Ledger) forgetNodes(kept map[string]bool) {
	if l.snaps > 0 {
		return // snapshots may use them
	}
	left := len(l.nodes)
	for name, n := range l.nodes {
		if n.Record().Found() || kept[name] || n.ahead != nil {
			continue
		}
		if n.flags.Or(detached)&bound != 0 {
			n.flags.And(^detached)
			continue
		}
		delete(l.nodes, name)
	}
	if len(l.nodes) < left {
		nodes := make(map[string]*Node, len(l.nodes)) // a map never shrinks
		maps.Copy(nodes, l.nodes)
		l.nodes, l.sorted, l.added, l.unordered = nodes, nil, nil, true
		l.ring.reset(l.version.Load())
		l.ring.epoch-- // versions keep their meaning; only the ring starts over
	}
}

// nodeLocked returns the node of a name. mu must be held.
func (l *Ledger) nodeLocked(name string) *Node {
	n := l.nodes[name]
	if n == nil {
		n = newNode(name)
		l.nodes[name] = n
		if !l.unordered {
			l.added = append(l.added, n)
		}
	}
	return n
}

// Nodes iterates over the names that are stored or were requested, in order.
func (l *Ledger) Nodes() iter.Seq[*Node] { return slices.Values(l.inOrder()) }

// Moment returns the records of several nodes at one moment. If they are those of have, it returns
// have and true.
func (l *Ledger) Moment(nodes []*Node, have []*Record) (recs []*Record, same bool) {
	l.mu.RLock()
	defer l.mu.RUnlock()
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
func (l *Ledger) inOrder() []*Node {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.unordered {
		l.unordered, l.added = false, slices.Collect(maps.Values(l.nodes))
	}
	if len(l.added) > 0 {
		slices.SortFunc(l.added, byName)
		all := make([]*Node, 0, len(l.sorted)+len(l.added))
		a, b := l.sorted, l.added
		for len(a) > 0 && len(b) > 0 {
			if a[0].Name < b[0].Name {
				all, a = append(all, a[0]), a[1:]
			} else {
				all, b = append(all, b[0]), b[1:]
			}
		}
		l.sorted, l.added = append(append(all, a...), b...), nil
	}
	return l.sorted
}
