package ledger

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"sort"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
)

// What is kept of the past, besides the newest commits: of each name the newest
// changes, and restore points. Where that is too much, first the changes of a name
// beyond a few go, then the restore points, then the rest, the oldest first.
const (
	keptChanges = 20
	fewChanges  = 3
)

// The restore points: one for each minute, hour and day, up to an age.
var restorePoints = []struct{ each, upTo time.Duration }{
	{time.Minute, time.Hour},
	{time.Hour, 2 * 24 * time.Hour},
	{24 * time.Hour, 30 * 24 * time.Hour},
}

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
	l := pastLine{raw: r.line, mark: r.c.mark(), at: r.c.At, from: int32(len(p.changes)), more: len(r.c.keys) > 0 || r.c.schema >= 0 || r.c.closed >= 0, taken: r.c.receipt != nil && r.c.receipt.Taken != nil}
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
func (p *past) forget(names []string) {
	p.forgets = map[string]bool{}
	for _, name := range names {
		p.forgets[name] = true
	}
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
		l.empty = l.forgot && left == 0 && !l.more
		l.forgot = l.forgot || l.taken
	}
}

// all is a number of commits that none is over.
const all = math.MaxInt

// weigh finds out what each line is worth at a time, of which a number of the newest
// commits, or all lines, are kept whatever they are worth.
func (p *past) weigh(now time.Time, commits int) {
	next, rank := make([]int32, p.names), make([]int32, p.names)
	seen := map[[2]int64]bool{}
	var last [2]int64 // of seen
	for i := len(p.lines) - 1; i >= 0; i-- {
		l := &p.lines[i]
		merged := l.mark.Over > 0
		switch {
		case l.empty:
		case commits == all:
			l.newest = true
		case !merged:
			l.newest = commits > 0
			commits--
		}
		for c := l.to - 1; c >= l.from; c-- {
			ch := &p.changes[c]
			if ch.next = int32(len(p.lines)); next[ch.of] > 0 {
				ch.next = next[ch.of]
			}
			next[ch.of] = int32(i)
			if ch.forgot {
				continue
			}
			// A line of several commits tells the version and time of a change only
			// where it is the newest of its name.
			if merged && rank[ch.of] > 0 {
				continue
			}
			rank[ch.of]++
			if l.rank == 0 || rank[ch.of] < l.rank {
				l.rank = rank[ch.of]
			}
		}
		age := time.Duration(max(now.UnixMilli()-l.at, 0)) * time.Millisecond
		for kind, points := range restorePoints {
			if age < points.upTo {
				of := [2]int64{int64(kind + 1), l.at / points.each.Milliseconds()}
				if of != last { // most are of the same time as the one before
					l.point = !seen[of]
					seen[of], last = true, of
				}
				break
			}
		}
	}
}

// cuts are lines before which something is not kept: changes of a name beyond the
// newest few, restore points, anything.
type cuts struct{ changes, points, all int }

// whole says whether a line stays as it is.
func (p *past) whole(i int, c cuts) bool {
	l := &p.lines[i]
	switch {
	case l.empty:
		return false
	case l.newest, 0 < l.rank && l.rank <= fewChanges:
		return true
	}
	return 0 < l.rank && l.rank <= keptChanges && i >= c.changes
}

func (p *past) point(i int, c cuts) bool { return p.lines[i].point && i >= c.points }

// start gives the first line that is kept: those before make the base.
func (p *past) start(c cuts) int {
	for i := c.all; i < len(p.lines); i++ {
		switch {
		case p.whole(i, c):
			return i
		case p.point(i, c):
			return i + 1
		}
	}
	return len(p.lines)
}

// runs gives the lines that become one, from the start on.
func (p *past) runs(c cuts, each func(from, to int)) {
	for from := p.start(c); from < len(p.lines); {
		to := from + 1
		if !p.whole(from, c) {
			for to < len(p.lines) && !p.point(to-1, c) && !p.whole(to, c) {
				to++
			}
		}
		each(from, to)
		from = to
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

// asIs says whether the lines of a run are one that needs no writing anew.
func (p *past) asIs(from, to int) bool { return to == from+1 && !p.lines[from].forgot }

// size is how many bytes are kept, about.
func (p *past) size(c cuts) (size int64) {
	p.runs(c, func(from, to int) {
		if p.asIs(from, to) {
			size += int64(len(p.lines[from].raw)) + 1
			return
		}
		size += lineOverhead
		for _, ch := range p.changes[p.lines[from].from:p.lines[to-1].to] {
			if int(ch.next) >= to && !ch.forgot {
				size += int64(ch.size)
			}
		}
	})
	return size
}

// within chooses what is kept so that it takes no more than a number of bytes.
func (p *past) within(most int64) (c cuts) {
	if p.size(c) <= most {
		return c
	}
	for _, cut := range []*int{&c.changes, &c.points, &c.all} {
		*cut = sort.Search(len(p.lines), func(i int) bool {
			*cut = i
			return p.size(c) <= most
		})
	}
	return c
}

// lineOverhead is about what a line has besides names and values.
const lineOverhead = 100

// merged makes one line of a run.
func (p *past) merged(dst []byte, from, to int) ([]byte, error) {
	var d decoder
	one := commit{schema: -1, closed: -1}
	keys := map[string]entry.Declared{}
	before := p.lines[from].mark.Version - max(p.lines[from].mark.Over, 1)
	single := to == from+1 && p.lines[from].mark.Over == 0 && !p.lines[from].empty
	for i := from; i < to; i++ {
		l := &p.lines[i]
		if err := d.decode(l.raw); err != nil {
			return nil, err
		}
		if single {
			one.By, one.From = d.c.By, d.c.From
			if one.extra = d.c.extra; !l.taken || p.forgets == nil {
				one.receipt = d.c.receipt
			}
		}
		for k := range d.c.changes {
			ch, made := p.changes[int(l.from)+k], d.c.changes[k]
			if int(ch.next) < to || ch.forgot {
				continue
			}
			if made.first = p.first(ch.name); made.first <= before && !p.forgets[ch.name] || made.first > d.c.Version {
				made.first = 0
			}
			one.changes = append(one.changes, made)
			if d.c.extra != nil && d.c.extra.entries[ch.name] != nil {
				one.more().entries[ch.name] = d.c.extra.entries[ch.name]
			}
		}
		for _, k := range d.c.keys {
			keys[k.Name] = k
		}
		one.schema = max(one.schema, d.c.schema)
		if d.c.closed >= 0 {
			one.closed = d.c.closed
		}
		one.Version, one.At = d.c.Version, d.c.At
		one.over += max(l.mark.Over, 1)
		one.end = l.mark.EndOf(l.raw)
	}
	if single {
		one.over, one.end = 0, journal.End{}
	} else {
		one.moved = p.receipts(before, one.Version)
	}
	one.synced = one.Version - 1
	for _, name := range slices.Sorted(maps.Keys(keys)) {
		one.keys = append(one.keys, keys[name])
	}
	return one.appendLine(dst), nil
}

// write appends the lines of what is kept.
func (p *past) write(dst []byte, c cuts) (lines []byte, count int, err error) {
	lines = slices.Grow(dst, int(p.size(c)))
	p.runs(c, func(from, to int) {
		count++
		switch {
		case err != nil:
		case p.asIs(from, to):
			lines = append(append(lines, p.lines[from].raw...), '\n')
		default:
			lines, err = p.merged(lines, from, to)
		}
	})
	return lines, count, err
}

// baseOf gives the version, and the End of its commit, behind which the kept lines
// begin; view is where the past was read from.
func (p *past) baseOf(c cuts, view Past) (base int64, end journal.End) {
	start := p.start(c)
	if start == 0 {
		return view.Header().Base, view.Header().End
	}
	l := &p.lines[start-1]
	return l.mark.Version, l.mark.EndOf(l.raw)
}

// stateAt gives all records, those of removed names too, as of where the kept
// lines begin. What these change is looked up in the lines before, and at last in
// those that hold the base of view; the rest is as it is now.
func (p *past) stateAt(c cuts, view Past, now func(yield func(Named) bool)) ([]Named, error) {
	start := p.start(c)
	changed := map[string]*Record{} // after the start; with what they held at it, or nil
	missing := 0                    // which of them the lines before the start don't tell
	if start < len(p.lines) {
		for _, ch := range p.changes[p.lines[start].from:] {
			if _, known := changed[ch.name]; !known {
				changed[ch.name] = nil
				missing++
			}
		}
	}
	var d decoder
	for i := range start {
		l := &p.lines[i]
		if !slices.ContainsFunc(p.changes[l.from:l.to], func(ch pastChange) bool { return start <= int(ch.next) && int(ch.next) < len(p.lines) }) {
			continue
		}
		if err := d.decode(l.raw); err != nil {
			return nil, err
		}
		stamp := d.c.Stamp
		for k, ch := range d.c.changes {
			if next := int(p.changes[int(l.from)+k].next); start <= next && next < len(p.lines) {
				missing--
				if !p.changes[int(l.from)+k].forgot {
					changed[ch.name] = &Record{Value: ch.val, Stamp: &stamp}
				}
			}
		}
	}
	if header := view.Header(); missing > 0 && header.Lines > 0 {
		err := view.Read(&replayer{each: func(c *commit) {
			if c.Version > header.Base {
				return
			}
			stamp := c.Stamp
			for _, ch := range c.changes {
				if rec, wanted := changed[ch.name]; wanted && rec == nil && !p.forgets[ch.name] {
					changed[ch.name] = &Record{Value: ch.val, Stamp: &stamp}
				}
			}
		}})
		if err != nil {
			return nil, err
		}
	}
	var recs []Named
	for e := range now {
		rec, was := changed[e.Name]
		if !was {
			rec = e.Record
		} else if rec != nil {
			rec.First = rec.Version
			if e.Found() && e.First <= rec.Version { // without a break since
				rec.First = e.First
			}
		}
		if rec != nil {
			recs = append(recs, Named{e.Name, rec})
		}
	}
	return recs, nil
}

// tombstones leaves out names that were removed long ago, and the oldest of those
// that are too many. oldest is moved up to the newest that is forgotten: from it on
// changes can be told, so that nobody asks for those before.
func tombstones(recs []Named, oldest *int64, now time.Time) []Named {
	since := now.Add(-keptGoneDays * 24 * time.Hour).UnixMilli()
	var kept, gone []Named
	for _, e := range recs {
		switch {
		case e.Found():
			kept = append(kept, e)
		case e.Version <= *oldest:
		case e.At >= since:
			gone = append(gone, e)
		default:
			*oldest = max(*oldest, e.Version)
		}
	}
	slices.SortFunc(gone, func(a, b Named) int { return cmp.Compare(b.Version, a.Version) })
	if len(gone) > keptGone {
		*oldest = max(*oldest, gone[keptGone].Version)
		gone = gone[:keptGone]
	}
	return append(kept, gone...)
}
