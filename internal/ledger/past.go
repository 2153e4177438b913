package ledger

import (
	"slices"
	"sync"

	"github.com/small-pantry/pantry/internal/journal"
)

// A past is the lines behind the base of a log, and which of them are to be kept.
type past struct {
	lines   []pastLine
	changes []pastChange
	names   int             // how many the changes are of
	forgets map[string]bool // names of which nothing is told but what they hold now

	// first is Record.First of what a name holds now. It is told by the line of a
	// run in which it lies, since those that told it are gone.
	first func(name string) int64
	// receipts gives those that are kept of the commits after a version, up to another.
	receipts func(after, upTo int64) []*Receipt

	room *pastRoom
}

// A pastRoom is what reading a past takes most of its memory for. Who writes much has it read
// over and over.
type pastRoom struct {
	data    []byte
	lines   []pastLine
	changes []pastChange
}

// pastRooms are those that nobody uses, but for large ones.
var pastRooms = sync.Pool{New: func() any { return &pastRoom{} }}

const mostRoom = 4 << 20

// free gives the room back. Nothing of the past is used after it.
func (p *past) free() {
	room := p.room
	clear(p.lines)
	clear(p.changes)
	room.lines, room.changes = p.lines[:0], p.changes[:0]
	*p = past{}
	if cap(room.data) <= mostRoom {
		pastRooms.Put(room)
	}
}

type pastLine struct {
	raw      []byte // without its newline
	mark     journal.Mark
	at       int64 // in milliseconds
	from, to int32 // its changes
	rank     int32 // of the names that it changes, the smallest: 1 for the newest change of a name; 0: none
	newest   bool  // it is among the newest commits
	point    bool  // it is the last of the time that a restore point stands for
	more     bool  // it has declared keys, or more
	taken    bool  // it has a receipt that tells what was taken out of something
	owes     bool  // it records a duty, which this rewriting does
	forgot   bool  // something of it is forgotten, so that it has to be written anew
	empty    bool  // and nothing is left
}

// A pastChange is what a line does to a name. There are as many as a file has lines, or
// more, and so they are small.
type pastChange struct {
	name   string
	size   int32 // in a line, about
	of     int32 // the name's number
	next   int32 // the line that changes the name next; len(lines): none
	gone   bool  // it drops the name
	forgot bool
}

// A pastReader takes the lines behind a base from the journal.
type pastReader struct {
	decoder
	base  int64
	line  []byte
	past  past
	names map[string]pastName
}

type pastName struct {
	name string
	of   int32
}

// Lend gives room for all bytes, which stay as long as the past.
func (r *pastReader) Lend(size int) []byte {
	room := r.past.room
	room.data = slices.Grow(room.data[:0], size)[:size]
	return room.data
}

// Expect makes room, as for lines of one change.
func (r *pastReader) Expect(size int) {
	room := r.past.room
	r.past.lines = slices.Grow(room.lines, size/usualLine)
	r.past.changes = slices.Grow(room.changes, size/usualLine)
}

// usualLine is about the length of a line of one short entry.
const usualLine = 112

func (r *pastReader) Decode(line []byte) (journal.Mark, error) {
	r.line = line
	err := r.decode(line)
	return r.c.mark(), err
}

func (r *pastReader) Accept() {
	if r.c.Version <= r.base {
		return
	}
	p := &r.past
	l := pastLine{raw: r.line, mark: r.c.mark(), at: r.c.At, from: int32(len(p.changes)), more: len(r.c.keys) > 0 || r.c.schema >= 0 || r.c.closed >= 0, taken: r.c.receipt != nil && r.c.receipt.Taken != nil, owes: r.c.owes != nil}
	for _, ch := range r.c.changes {
		n, known := r.names[ch.name]
		if !known {
			n = pastName{ch.name, int32(p.names)}
			p.names++
			r.names[n.name] = n
		}
		p.changes = append(p.changes, pastChange{name: n.name, of: n.of, size: int32(sizeOf(n.name, ch.val) + entryOverhead), gone: ch.val.IsZero()})
	}
	l.to = int32(len(p.changes))
	p.lines = append(p.lines, l)
}

// entryOverhead is about what an entry has in a line besides its name and value.
const entryOverhead = 40

// readPast reads the past, which is to be freed.
func (l *Ledger) readPast(view Past) (*past, error) {
	r := &pastReader{base: view.Header().Base, names: map[string]pastName{}}
	r.past.room = pastRooms.Get().(*pastRoom)
	r.past.first = func(name string) int64 {
		if n := l.Find(name); n != nil {
			return n.Record().First
		}
		return 0
	}
	r.past.receipts = func(after, upTo int64) []*Receipt {
		l.mu.RLock()
		defer l.mu.RUnlock()
		return l.receipts.between(after, upTo)
	}
	if err := view.Read(r); err != nil {
		r.past.free()
		return nil, err
	}
	return &r.past, nil
}

// forget has nothing told of names but what they hold now.
func (p *past) forget(names map[string]bool) {
	p.forgets = names
	newest := map[string]bool{}
	for i := len(p.lines) - 1; i >= 0; i-- {
		l := &p.lines[i]
		left := 0
		for c := l.from; c < l.to; c++ {
			ch := &p.changes[c]
			ch.forgot = p.forgets[ch.name] && (newest[ch.name] || ch.gone)
			newest[ch.name] = true
			since := p.forgets[ch.name] && p.first(ch.name) < l.mark.Version // told here alone from now on
			l.forgot = l.forgot || ch.forgot || since
			if !ch.forgot {
				left++
			}
		}
		l.forgot = l.forgot || l.owes
		l.empty = l.forgot && left == 0 && !l.more
		l.forgot = l.forgot || l.taken
	}
}

// newestAnew says whether the line of the newest commit is written anew as that of one, so that
// its crc is another.
func (p *past) newestAnew() bool {
	if len(p.lines) == 0 {
		return false
	}
	l := &p.lines[len(p.lines)-1]
	return l.forgot && !l.empty
}
