package ledger

import "sort"

// ringSize is how many changes a ring remembers: enough for whoever looks now
// and then, and 64 KiB.
const ringSize = 4096

// A ring remembers which names the newest commits changed, so that whoever
// knows an older version finds what changed at a cost of that, not of all there
// is. Guarded by Ledger.mu.
type ring struct {
	items []ringItem // by version; the oldest stands at first
	first int
	from  int64 // all changes after this version are in items
	// epoch counts how often the versions that were told before lost their
	// meaning, as when an older file is put in place of the file.
	epoch int
}

type ringItem struct {
	version int64
	node    *Node
}

// add takes in that a commit changed a name. Versions never fall.
func (r *ring) add(version int64, n *Node) {
	item := ringItem{version, n}
	if len(r.items) < ringSize {
		r.items = append(r.items, item)
		return
	}
	r.from = r.items[r.first].version
	r.items[r.first] = item
	r.first = (r.first + 1) % ringSize
}

// after gives the names that changed after a version, some perhaps twice;
// known is false where the ring doesn't reach so far back.
func (r *ring) after(version int64) (nodes []*Node, known bool) {
	if version < r.from {
		return nil, false
	}
	n := len(r.items)
	at := func(i int) *ringItem { return &r.items[(r.first+i)%n] }
	for i := sort.Search(n, func(i int) bool { return at(i).version > version }); i < n; i++ {
		nodes = append(nodes, at(i).node)
	}
	return nodes, true
}

// reset forgets all: changes can be told from version on.
func (r *ring) reset(version int64) { *r = ring{from: version, epoch: r.epoch + 1} }
