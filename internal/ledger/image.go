package ledger

import (
	"maps"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
)

// An image is the result of reading lines: the whole state, or changes.
type image struct {
	decoder
	nodes   map[string]*Node
	version int64
	at      int64 // the newest time of a commit
	keys    []entry.Declared
	schema  int64 // -1 means not set
	closed  int   // as in commit.closed
	kept    []*Receipt
	duty    duty
	marked  bool           // fill commits
	line    []byte         // decoded last
	commits []markedCommit // the commits, and the one of the base
	beside  *written       // copies the lines, if not nil
	room    int            // the initial capacity of nodes
}

var _ journal.Consumer = (*image)(nil)

// newImage returns an image for a whole file, or for a few lines.
func newImage(whole bool) *image {
	im := &image{nodes: map[string]*Node{}, schema: -1, closed: -1}
	im.placing, im.whole = true, whole
	return im
}

// Expect reserves room for the entries of a file of size bytes. A growing map would cost as much
// again.
func (im *image) Expect(size int) {
	if len(im.nodes) == 0 && size > 4096 {
		im.room = size / shortEntry
		im.nodes = make(map[string]*Node, im.room)
	}
}

// trim releases the room if far fewer entries came, as when a file is mostly history.
func (im *image) trim() {
	if len(im.nodes) < im.room/8 {
		nodes := make(map[string]*Node, len(im.nodes))
		maps.Copy(nodes, im.nodes)
		im.nodes = nodes
	}
}

func (im *image) Decode(line []byte) (journal.Mark, error) {
	if im.stamp == nil { // a stamp whose line was not accepted is reused
		im.stamp = new(Stamp)
	}
	im.line = line
	err := im.decode(line)
	return im.c.mark(), err
}

// first sets Record.First for a name in the line. old is its previous record in this image, or nil.
// When only a few lines are read, the name may have existed before; then First is negative, for
// merge.
func (im *image) first(rec, old *Record) {
	switch {
	case rec.First > 0: // the line has it
	case old != nil:
		rec.First = old.firstOr(rec.Version)
	case im.whole:
		rec.First = rec.Version
	default:
		rec.First = -rec.Version
	}
}

// fewSet is the number of names in a line up to which existing nodes are reused, so that the
// history of a few names does not take memory per commit. In a longer line, a name gets a new node,
// since no reader has the old one yet.
const fewSet = 8

// Accept applies the line.
func (im *image) Accept() {
	stamp := im.stamp
	im.stamp = nil
	*stamp = im.c.Stamp
	if im.marked {
		im.commits = append(im.commits, markedCommit{stamp.Version, im.c.mark().EndOf(im.line)})
	}
	if im.beside != nil {
		im.beside.add(im.line, 1)
		im.beside.add([]byte{'\n'}, 0)
	}
	im.version, im.at = stamp.Version, max(im.at, stamp.At)
	few, look := len(im.set) <= fewSet, len(im.nodes) > 0
	for _, p := range im.set {
		old, before := (*Node)(nil), (*Record)(nil)
		if look {
			if old = im.nodes[p.Name]; old != nil {
				before = old.rec.Load()
			}
		}
		rec := p.rec.Load()
		im.first(rec, before)
		if old == nil || !few {
			im.nodes[p.Name] = &p.Node
			continue
		}
		old.rec.Store(&Record{Value: rec.Value, Stamp: rec.Stamp, First: rec.First})
		if len(im.set) == 1 {
			im.release(p)
		}
	}
	for _, ch := range im.c.changes { // names that the line drops
		if old := im.nodes[ch.name]; old != nil {
			old.rec.Store(&Record{Stamp: stamp})
			continue
		}
		p := im.place()
		p.Name, p.first.Stamp = ch.name, stamp
		p.rec.Store(&p.first)
		im.nodes[ch.name] = &p.Node
	}
	im.keys = append(im.keys, im.c.keys...)
	if im.c.schema >= 0 {
		im.schema = im.c.schema
	}
	if im.c.closed >= 0 {
		im.closed = im.c.closed
	}
	im.duty.add(im.c.owes)
	im.kept = append(im.kept, im.c.moved...)
	if im.c.receipt != nil {
		im.kept = append(im.kept, im.c.receipt)
	}
}
