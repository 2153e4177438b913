package ledger

import (
	"maps"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
)

// An image is what lines that were read add up to: the whole state, or what
// changed. It takes the lines from the journal.
type image struct {
	decoder
	nodes   map[string]*Node
	version int64
	at      int64 // the newest time of a commit
	keys    []entry.Declared
	schema  int64 // -1: not told
	closed  int   // as commit.closed
	kept    []*Receipt
	duty    duty
	stamps  []Stamp
	whole   bool
	marked  bool     // told is wanted
	line    []byte   // that was decoded last
	told    []told   // the commits, and what made the state before them
	beside  *written // where the lines are wanted as they stand; nil: nowhere
	room    int      // for how many nodes there was room at first
}

var _ journal.Consumer = (*image)(nil)

// newImage makes an image of the whole file, whose entries stay together in
// memory, or of a few lines.
func newImage(whole bool) *image {
	im := &image{nodes: map[string]*Node{}, schema: -1, closed: -1, whole: whole}
	im.slab = &slab{size: 1, most: 1}
	if whole {
		im.slab = &slab{size: firstSlab, most: slabSize}
	}
	return im
}

// Expect makes room for the entries of a file of size bytes: a map that grows
// while it is filled costs as much again.
func (im *image) Expect(size int) {
	if len(im.nodes) == 0 && size > 4096 {
		im.room = size / shortEntry
		im.nodes = make(map[string]*Node, im.room)
	}
}

// trim gives back the room of a map for which far fewer entries came, as where
// a file holds mostly the past.
func (im *image) trim() {
	if len(im.nodes) < im.room/8 {
		nodes := make(map[string]*Node, len(im.nodes))
		maps.Copy(nodes, im.nodes)
		im.nodes = nodes
	}
}

func (im *image) Decode(line []byte) (journal.Mark, error) {
	if im.stamp == nil { // that of a line which is not accepted serves the next
		if len(im.stamps) == 0 {
			im.stamps = make([]Stamp, im.slab.size)
		}
		im.stamp, im.stamps = &im.stamps[0], im.stamps[1:]
	}
	im.line = line
	err := im.decode(line)
	return im.c.mark(), err
}

// first settles Record.First for what the line makes of a name, of which old is the
// record before in this image, if there is one. Of a few lines, a name that comes
// first may have stood there before: then it is negative, for merge.
func (im *image) first(rec, old *Record) {
	switch {
	case rec.First > 0: // the line tells it
	case old != nil:
		rec.First = old.firstOr(rec.Version)
	case im.whole:
		rec.First = rec.Version
	default:
		rec.First = -rec.Version
	}
}

// fewSet is up to how many names of a line are looked up: the past of a few
// names does not take memory for each commit. In a long line, as one that holds
// many entries at once, a name that was set before gets another node: nobody has
// the old one yet.
const fewSet = 8

// Accept takes the line in.
func (im *image) Accept() {
	stamp := im.stamp
	im.stamp = nil
	*stamp = im.c.Stamp
	if im.marked {
		im.told = append(im.told, told{stamp.Version, im.c.mark().EndOf(im.line)})
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
			im.slab.back()
		}
	}
	for _, ch := range im.c.changes { // what the line drops
		if old := im.nodes[ch.name]; old != nil {
			old.rec.Store(&Record{Stamp: stamp})
			continue
		}
		p := im.slab.next()
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
