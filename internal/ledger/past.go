package ledger

import (
	"github.com/small-pantry/pantry/internal/journal"
)

// A past holds the lines after the base of a log, and which of them to keep.
type past struct {
	lines   []pastLine
	changes []pastChange
	names   int             // the number of different names in changes
	forgets map[string]bool // names whose old values are erased

	// first returns Record.First of a name now. The line of a run must have it, since the lines
	// that had it are gone.
	first func(name string) int64
	// receipts returns the kept receipts of the commits after a version, up to another.
	receipts func(after, upTo int64) []*Receipt

	// For merged.
	decoder decoder
	kept    []change
}

type pastLine struct {
	raw      []byte // without its newline
	mark     journal.Mark
	at       int64 // in milliseconds
	from, to int32 // its changes
	rank     int32 // the best rank of its names: 1 is the newest change of a name; 0 means none
	newest   bool  // one of the newest commits
	point    bool  // a restore point
	more     bool  // it has declared keys or other members
	taken    bool  // its receipt has the taken items
	owes     bool  // it records a duty, which this rewriting does
	forgot   bool  // something in it is erased, so it must be encoded again
	empty    bool  // nothing is left in it
}

// A pastChange is the change of a name in a line. There are many, so it is small.
type pastChange struct {
	name   string
	size   int32 // approximate bytes in a line
	of     int32 // the number of the name
	next   int32 // the next line that changes the name; len(lines) means none
	gone   bool  // it drops the name
	forgot bool
}

// A pastReader reads the lines after a base.
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

// Lend returns a buffer for the whole log, which is used as long as the past.
func (r *pastReader) Lend(size int) []byte { return make([]byte, size) }

// Expect reserves room, assuming lines of one change.
func (r *pastReader) Expect(size int) {
	r.past.lines = make([]pastLine, 0, size/usualLine)
	r.past.changes = make([]pastChange, 0, size/usualLine)
}

// usualLine is the approximate length of a line with one short entry.
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

// entryOverhead is the approximate size of an entry in a line without name and value.
const entryOverhead = 40

// readPast reads the past.
func (l *Ledger) readPast(view Past) (*past, error) {
	r := &pastReader{base: view.Header().Base, names: map[string]pastName{}}
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
		return nil, err
	}
	return &r.past, nil
}

// forget erases the old values of names.
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
			since := p.forgets[ch.name] && p.first(ch.name) < l.mark.Version // the only line that has it from now on
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

// newestChanged reports whether the line of the newest commit is encoded again as one commit, so that
// its crc changes.
func (p *past) newestChanged() bool {
	if len(p.lines) == 0 {
		return false
	}
	l := &p.lines[len(p.lines)-1]
	return l.forgot && !l.empty
}
