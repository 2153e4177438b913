package ledger

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// What a compaction keeps, and from which size on there is one.
const (
	smallFile    = 1 << 20 // no file under it is compacted (Options.Small)
	spread       = 4       // nor one under so many times what it must keep
	keptCommits  = 200     // Options.Kept
	keptBytes    = 256 << 10
	keptGone     = 10_000
	keptGoneDays = 7
)

// compact writes the file anew, with less of its past, when it is far larger
// than what it must keep: the state at some version, and the newest commits
// after it as they are. io and the file's lock must be held. It fails without a
// word but a Problem, since nobody asked for it.
func (l *Ledger) compact() {
	size := l.file.End()
	if size <= max(l.opts.Small, l.compactAt) || l.file.MayReplace() != nil {
		return
	}
	keep, err := l.shrink(size)
	if err != nil {
		// Not again until the file has grown by a quarter.
		l.compactAt = size + size/4
		l.opts.Problem(fmt.Errorf("%s has %d bytes and could not be compacted: %w", l.file.Path(), size, err))
		return
	}
	l.compactAt = spread * keep
}

// shrink rewrites the file if that is worth it, and says how many bytes it
// must keep.
func (l *Ledger) shrink(size int64) (keep int64, err error) {
	commits, err := l.file.Lines()
	if err != nil {
		return 0, err
	}
	var live int64
	for e := range (&Snapshot{l, l.Version()}).all("", "") {
		live += int64(sizeOf(e.Name, e.Value)) + lineOverhead
	}
	commits, raw := newest(commits, l.opts.Kept, max(live, keptBytes))
	if keep = live + raw; size <= spread*keep {
		return keep, nil
	}
	version := l.Version()
	base := version - int64(len(commits))
	im, err := l.imageAt(base)
	if err != nil {
		return keep, err
	}
	header := l.file.Header()
	header.Base, header.Schema = base, max(im.schema, header.Schema)
	recs := im.kept(&header.Oldest, l.opts.Now())
	lines, n := stateLines(recs, im.declaredKeys(), base)
	header.Lines = int64(n)
	for _, line := range commits {
		lines = append(lines, line...)
	}
	if err := l.file.Rewrite(header, lines, n+len(commits), version); err != nil {
		return keep, err
	}
	l.syncedTo = version
	l.mu.Lock()
	l.oldest = header.Oldest
	l.mu.Unlock()
	return keep, nil
}

// lineOverhead is about what a line has besides names and values.
const lineOverhead = 100

// newest gives the newest of the commits that may be kept: a number of them,
// within most bytes.
func newest(commits [][]byte, number int, most int64) (kept [][]byte, size int64) {
	from := len(commits)
	for from > 0 && len(commits)-from < number && size+int64(len(commits[from-1])) <= most {
		from--
		size += int64(len(commits[from]))
	}
	return commits[from:], size
}

// imageAt is the state as of a version that the file tells.
func (l *Ledger) imageAt(version int64) (*image, error) {
	im := newImage()
	err := l.file.Reread(&upTo{im, version})
	return im, err
}

// upTo takes the lines up to a version into an image.
type upTo struct {
	*image
	version int64
}

func (u *upTo) Accept() {
	if u.c.Version <= u.version {
		u.image.Accept()
	}
}

// kept gives what an image keeps: the entries, and the newest of the names that
// were removed not long ago. oldest is moved up to the newest that is forgotten.
func (im *image) kept(oldest *int64, now time.Time) []Entry {
	var recs, gone []Entry
	since := now.Add(-keptGoneDays * 24 * time.Hour).UnixMilli()
	for name, n := range im.nodes {
		rec := n.Record()
		switch {
		case rec.Found():
			recs = append(recs, Entry{name, rec})
		case rec.At >= since:
			gone = append(gone, Entry{name, rec})
		default:
			*oldest = max(*oldest, rec.Version)
		}
	}
	slices.SortFunc(gone, func(a, b Entry) int { return cmp.Compare(b.Version, a.Version) })
	if len(gone) > keptGone {
		*oldest = max(*oldest, gone[keptGone].Version)
		gone = gone[:keptGone]
	}
	return append(recs, gone...)
}

// declaredKeys gives the keys that are declared after all lines.
func (im *image) declaredKeys() []Declared {
	last := map[string]Declared{}
	var order []string
	for _, k := range im.keys {
		if _, known := last[k.Name]; !known {
			order = append(order, k.Name)
		}
		last[k.Name] = k
	}
	var keys []Declared
	for _, name := range order {
		if !last[name].gone {
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
	_, damaged := journal.AsDamage(err)
	return damaged
}

// salvage goes on with every intact line of a damaged file, and reports what
// was lost. A writer keeps the damaged file beside and writes another in its
// place; a reader changes nothing. io, or openMu at the start, must be held, and
// a writer needs the file's lock.
func (l *Ledger) salvage(cause error) error {
	data, err := l.file.Bytes()
	if err != nil {
		return errors.Join(cause, err)
	}
	im := &salvager{image: newImage(), at: map[string]int64{}}
	header, lost := journal.Salvage(data, im)
	l.keepKnown(im)
	d := &Damage{Path: l.file.Path(), Lost: lost, Version: max(im.version, header.Base), Cause: cause}
	var recs []Entry
	for name, n := range im.nodes {
		if n.Record().Found() {
			d.Entries++
		}
		recs = append(recs, Entry{name, n.Record()})
	}
	im.version = d.Version
	if im.schema = max(im.schema, header.Schema); im.schema <= 0 {
		im.schema = l.opts.Schema
	}
	if !l.opts.ReadOnly {
		if err := l.file.MayReplace(); err != nil {
			return errors.Join(cause, err)
		}
		if d.Copy, err = l.file.CopyDamaged(data, l.opts.Now()); err != nil {
			return errors.Join(cause, fmt.Errorf("keep the damaged file: %w", err))
		}
		lines, n := stateLines(recs, im.declaredKeys(), d.Version)
		// What is lost may have been told to somebody by its version, so
		// changes can be told from here on only.
		anew := journal.Header{Name: l.name, ID: newID(), Base: d.Version, Lines: int64(n), Schema: im.schema, Oldest: d.Version}
		if err := l.file.Rewrite(anew, lines, n, d.Version); err != nil {
			return errors.Join(cause, err)
		}
	} else {
		l.file.Skip(len(data))
	}
	l.syncedTo, l.compactAt = d.Version, 0
	l.adopt(im.image, true)
	l.opts.Problem(d)
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
	kept := s.c.changes[:0]
	for _, ch := range s.c.changes {
		if s.c.Version >= s.at[ch.name] {
			s.at[ch.name] = s.c.Version
			kept = append(kept, ch)
		}
	}
	s.c.changes = kept
	newest := max(s.version, s.c.Version)
	s.image.Accept()
	s.version = newest
}

// Mend opens a ledger as a writer does, and tells what had to be cut or
// salvaged; nil: nothing.
func Mend(dir, name string, o Options) (damage *Damage, cut *CutError, err error) {
	o.Salvage, o.ReadOnly = true, false
	o.Problem = func(err error) {
		if d := (*Damage)(nil); errors.As(err, &d) {
			damage = d
		}
		if c := (*CutError)(nil); errors.As(err, &c) {
			cut = c
		}
	}
	l, err := Open(dir, name, o)
	if err != nil {
		return nil, nil, err
	}
	return damage, cut, l.Close()
}
