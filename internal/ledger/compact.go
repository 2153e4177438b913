package ledger

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
)

// What a compaction keeps, and from which size on there is one.
const (
	smallFile    = 256 << 10 // no file under it is compacted (Options.Small)
	spread       = 4         // nor one under so many times what it must keep
	keptCommits  = 200       // Options.Kept
	keptBytes    = 256 << 10 // Options.KeptBytes
	keptGone     = 10_000
	keptGoneDays = 7
)

// compactWait is how long a compaction waits for others, since a caller waits for
// it; it can be done after the next commit as well.
const compactWait = 100 * time.Millisecond

// compact writes the file anew, with less of its past, when it is far larger
// than what it must keep: the state at some version, and the newest commits
// after it as they are. io must be held, and Release called after it. It fails
// without a word but a Problem, since nobody asked for it.
func (l *Ledger) compact() {
	if l.head.Size <= max(l.opts.Small, l.compactAt) || l.log.MayRewrite() != nil {
		return
	}
	err := l.log.Hold(compactWait)
	if errors.Is(err, journal.ErrBusy) {
		return
	}
	if err == nil {
		err = l.catchUp(compactWait)
	}
	size := l.head.Size
	limit := int64(0)
	if err == nil {
		limit, err = l.shrink(size)
	}
	if err != nil {
		// Not again until the file has grown by a quarter.
		l.compactAt = size + size/4
		l.problem(fmt.Errorf("%s has %d bytes and could not be compacted: %w", l.Path(), size, err))
		return
	}
	l.compactAt = limit
}

// shrink rewrites the file if that is worth it, and says up to which size it is
// not: four times what it must keep, and half as much again of what it keeps of
// removed names.
func (l *Ledger) shrink(size int64) (limit int64, err error) {
	var keep int64
	var live, gone int64
	for e := range (&Snapshot{l: l, Version: l.Version()}).all("", "") {
		if e.Found() {
			live += sizeOf(e.Name, e.Value) + lineOverhead
		} else if gone < keptGone { // no more of them are kept
			gone++
		}
	}
	view, err := l.log.Past(l.head)
	if err != nil {
		return 0, err
	}
	defer view.Close()
	commits, all, err := view.Commits(max(live, l.opts.KeptBytes), l.opts.Kept)
	if err != nil {
		return 0, err
	}
	before, kept, number := newest(commits, l.opts.Kept, all)
	keep = live + int64(len(kept))
	limit = spread*keep + gone*lineOverhead*3/2
	if size <= limit {
		return limit, nil
	}
	version := l.Version()
	next := State{Header: *l.head.Header, Version: version}
	header := &next.Header
	if header.Base, header.End, err = l.baseBefore(kept, before); err != nil {
		return limit, err
	}
	base := header.Base
	recs, err := l.stateAt(view, base, before, kept, all)
	if err != nil {
		return limit, err
	}
	// The keys and the schema that commits after the base bring are those
	// that they bring again.
	header.Schema = l.Schema()
	recs = forget(recs, &header.Oldest, l.opts.Now())
	lines, n := stateLines(recs, l.Keys(), header.Schema, base)
	header.Lines = int64(n)
	next.Lines, next.Count = append(lines, kept...), n+number
	if l.head, err = l.log.Rewrite(l.head, next, compactWait); err != nil {
		return limit, err
	}
	l.schemaTold = true
	told := map[string]bool{} // removed names of which the file still tells
	for _, rec := range recs {
		if !rec.Found() {
			told[rec.Name] = true
		}
	}
	limit = spread*keep + int64(len(told))*lineOverhead*3/2
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, n := range l.nodes {
		if n.Record().Version > base {
			told[name] = true
		}
	}
	l.oldest = header.Oldest
	l.forgetNodes(told)
	return limit, nil
}

// lineOverhead is about what a line has besides names and values.
const lineOverhead = 100

// newest parts commits: at the end the newest, a number of them or all. Where
// these are not all that the file has, one stays before them.
func newest(commits []byte, number int, all bool) (before, kept []byte, n int) {
	from := len(commits)
	for n < number && from > 0 {
		start := lastLine(commits[:from])
		if start == 0 && !all {
			break
		}
		from = start
		n++
	}
	return commits[:from], commits[from:], n
}

// baseBefore gives the version that the file has before the commits kept, which
// follow those before, or the base; and the End of the commit that made it.
func (l *Ledger) baseBefore(kept, before []byte) (base int64, end journal.End, err error) {
	if len(kept) == 0 {
		return l.Version(), l.head.End, nil
	}
	base, end = l.head.Header.Base, l.head.Header.End
	if len(before) == 0 {
		return base, end, nil
	}
	var d decoder
	last := before[lastLine(before):]
	if err := d.decode(bytes.TrimSuffix(last, []byte("\n"))); err != nil {
		return 0, end, err
	}
	return d.c.Version, d.c.mark().EndOf(last), nil
}

// lastLine gives where the last of lines starts; each ends in a newline.
func lastLine(lines []byte) int { return bytes.LastIndexByte(lines[:len(lines)-1], '\n') + 1 }

// stateAt gives all records, those of removed names too, as of a version base
// from which on the commits kept follow. What these changed is looked up in
// the commits before, from the newest on, and at last in the lines that open the
// file; the rest is as it is in memory. Where before is not all of these, all
// is false.
func (l *Ledger) stateAt(view Past, base int64, before, kept []byte, all bool) ([]Named, error) {
	var d decoder
	changed := map[string]*Record{} // nil: to be looked up
	for line := range bytes.Lines(kept) {
		if err := d.decode(bytes.TrimSuffix(line, []byte("\n"))); err != nil {
			return nil, err
		}
		for _, ch := range d.c.changes {
			changed[ch.name] = nil
		}
	}
	missing, looked := len(changed), 0 // looked: bytes of before that were looked through
	consider := func(c *commit) {
		stamp := c.Stamp
		for _, ch := range c.changes {
			if rec, wanted := changed[ch.name]; wanted && (rec == nil || rec.Version < c.Version) {
				if rec == nil {
					missing--
				}
				changed[ch.name] = &Record{Value: ch.val, Stamp: &stamp}
			}
		}
	}
	for missing > 0 && (len(before) > 0 || !all) {
		if len(before) == 0 {
			commits, _, err := view.Commits(math.MaxInt64, math.MaxInt)
			if err != nil {
				return nil, err
			}
			before, all = commits[:len(commits)-len(kept)-looked], true
			continue
		}
		start := lastLine(before)
		if err := d.decode(before[start : len(before)-1]); err != nil {
			return nil, err
		}
		consider(&d.c)
		looked += len(before) - start
		before = before[:start]
	}
	if header := view.Header(); missing > 0 && header.Lines > 0 {
		err := view.Read(&replayer{each: func(c *commit) {
			if c.Version <= header.Base {
				consider(c)
			}
		}})
		if err != nil {
			return nil, err
		}
	}
	var recs []Named
	for e := range (&Snapshot{l: l, Version: l.Version()}).all("", "") {
		if rec, was := changed[e.Name]; !was {
			recs = append(recs, e)
		} else if rec != nil {
			recs = append(recs, Named{e.Name, rec})
		}
	}
	return recs, nil
}

// forget leaves out names that were removed long ago, and the oldest of those
// that are too many. oldest is moved up to the newest that is forgotten.
func forget(recs []Named, oldest *int64, now time.Time) []Named {
	since := now.Add(-keptGoneDays * 24 * time.Hour).UnixMilli()
	var kept, gone []Named
	for _, e := range recs {
		switch {
		case e.Found():
			kept = append(kept, e)
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

// declaredKeys gives the keys that are declared after all lines.
func (im *image) declaredKeys() []entry.Declared {
	last := map[string]entry.Declared{}
	var order []string
	for _, k := range im.keys {
		if _, known := last[k.Name]; !known {
			order = append(order, k.Name)
		}
		last[k.Name] = k
	}
	var keys []entry.Declared
	for _, name := range order {
		if !last[name].Gone {
			keys = append(keys, last[name])
		}
	}
	return keys
}

// A Damage is what became of a damaged file.
type Damage struct {
	Path    string
	Copy    string // where the damaged file is kept; empty for a reader, who leaves it in place
	Lost    []journal.Loss
	Entries int   // how many were saved
	Version int64 // the newest version that was found
	Cause   error // a *journal.DamageError
}

func (d *Damage) Error() string {
	s := fmt.Sprintf("%v; entries that are intact: %d", d.Cause, d.Entries)
	for _, l := range d.Lost {
		s += fmt.Sprintf("; lost: %d bytes from line %d, byte %d on (%s)", l.Bytes, l.Line, l.Offset, l.Reason)
	}
	if d.Copy != "" {
		s += "; the damaged file is kept as " + d.Copy
	}
	return s
}

func (d *Damage) Unwrap() error { return d.Cause }

func isDamage(err error) bool {
	if err == nil {
		return false
	}
	_, damaged := journal.AsDamage(err)
	return damaged
}

// salvage goes on with every intact line of a damaged file, and reports what
// was lost. A writer keeps the damaged file beside and writes another in its
// place; a reader changes nothing. A file without an intact line is somebody
// else's, and left alone. io, or the latch of Open, must be held, and a writer
// must be alone.
func (l *Ledger) salvage(log Salvager, cause error) error {
	im := &salvager{image: newImage(true), at: map[string]int64{}}
	w, err := log.Salvage(im)
	if err != nil {
		return errors.Join(cause, err)
	}
	header := w.Header
	if header.ID == "" && im.version == 0 && w.Bytes > 0 && l.Version() == 0 {
		return fmt.Errorf("%w: %s holds no line of a namespace or a board: it belongs to something else, and is left as it is (%v)", journal.ErrForeign, l.Path(), cause)
	}
	l.keepKnown(im)
	d := &Damage{Path: l.Path(), Lost: w.Lost, Version: max(im.version, header.Base), Cause: cause}
	var recs []Named
	for name, n := range im.nodes {
		if n.Record().Found() {
			d.Entries++
		}
		recs = append(recs, Named{name, n.Record()})
	}
	im.version = d.Version
	if im.schema = max(im.schema, header.Schema); im.schema <= 0 {
		im.schema = l.opts.Schema
	}
	if l.opts.ReadOnly {
		l.head = log.Pass(Head{Version: d.Version, Synced: d.Version})
	} else {
		if err := log.MayRewrite(); err != nil {
			return errors.Join(cause, err)
		}
		if d.Copy, err = log.SetAside(l.opts.Now()); err != nil {
			return errors.Join(cause, fmt.Errorf("keep the damaged file: %w", err))
		}
		lines, n := stateLines(recs, im.declaredKeys(), im.schema, d.Version)
		// What is lost may have been told to somebody by its version, so
		// changes can be told from here on only.
		anew := journal.Header{Name: l.name, ID: newID(), Base: d.Version, Lines: int64(n), Schema: im.schema, Oldest: d.Version, Rest: header.Rest}
		head, err := log.Rewrite(l.head, State{Header: anew, Lines: lines, Count: n, Version: d.Version}, l.opts.Wait)
		if err != nil {
			return errors.Join(cause, err)
		}
		l.head = head
	}
	l.compactAt, l.schemaTold = 0, true
	l.adopt(im.image, true)
	l.problem(d)
	return nil
}

// keepKnown adds to what was salvaged the records that a running program has
// and the file has not any more.
func (l *Ledger) keepKnown(s *salvager) {
	l.mu.RLock()
	defer l.mu.RUnlock()
	for name, n := range l.nodes {
		if rec := n.Record(); rec.Version > s.at[name] {
			node := newNode(name)
			node.rec.Store(rec)
			s.nodes[name] = node
			s.version = max(s.version, rec.Version)
		}
	}
}

// A salvager takes intact lines in any order: the newest version of a name wins.
type salvager struct {
	*image
	at map[string]int64
}

func (s *salvager) Accept() {
	older := func(name string) bool {
		if s.c.Version < s.at[name] {
			return true
		}
		s.at[name] = s.c.Version
		return false
	}
	s.set = slices.DeleteFunc(s.set, func(p *place) bool { return older(p.Name) })
	s.c.changes = slices.DeleteFunc(s.c.changes, func(ch change) bool { return older(ch.name) })
	newest := max(s.version, s.c.Version)
	s.image.Accept()
	s.version = newest
}

// Mend opens a ledger as a writer does, or looks at it anew where this process
// has it open, and tells what had to be cut or salvaged; nil: nothing.
func Mend(dir, name string, o Options) (damage *Damage, cut *CutError, err error) {
	o.Salvage, o.ReadOnly = true, false
	note := func(err error) {
		if d := (*Damage)(nil); errors.As(err, &d) {
			damage = d
		}
		if c := (*CutError)(nil); errors.As(err, &c) {
			cut = c
		}
	}
	o.Problem = note
	l, err := Open(dir, name, o)
	if err != nil {
		return nil, nil, err
	}
	if damage == nil && cut == nil { // another may have opened it before, and seen nothing since
		err = l.lookAnew(note)
	}
	return damage, cut, errors.Join(err, l.Close())
}

// lookAnew reads the whole file as Open does, salvages what is damaged, and
// tells note of it.
func (l *Ledger) lookAnew(note func(error)) error {
	return l.Locked(func() error {
		listener, salvages := &Listener{Problem: note}, l.opts.Salvage
		l.join(Options{Listener: listener})
		l.opts.Salvage = true
		defer func() { l.opts.Salvage = salvages; l.Leave(listener) }()
		return l.reload(true, l.opts.Wait)
	})
}
