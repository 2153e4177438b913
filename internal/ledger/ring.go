package ledger

import "sort"

// ringSize is how many changes a ring remembers: enough for occasional readers, in 64 KiB.
const ringSize = 4096

// A ring remembers the names that the newest commits changed, so that finding the changes after a
// version costs only their number. Guarded by Ledger.mu.
type ring struct {
	items []ringItem // by version; the oldest is at first
	first int
	from  int64 // all changes after this version are in items
	// epoch counts how often earlier versions lost their meaning, for example because an older file
	// replaced the file.
	epoch int
}

type ringItem struct {
	version int64
	node    *Node
}

// add records that a commit changed a name. Versions never decrease.
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

// after returns the names that changed after a version, possibly twice. known is false if the ring
// does not reach back that far.
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

// reset clears the ring: it knows the changes after version.
func (r *ring) reset(version int64) { *r = ring{from: version, epoch: r.epoch + 1} }
