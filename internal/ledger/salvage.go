package ledger

import (
	"errors"
	"fmt"
	"slices"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
)

// A Damage reports a damaged file.
type Damage struct {
	Path    string
	Copy    string // where the damaged file is kept; empty for a reader, who leaves it in place
	Lost    []journal.Loss
	Entries int   // the number of saved entries
	Version int64 // the newest version found
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

// salvage continues with every intact line of a damaged file and reports what was lost. A writer
// copies the damaged file and replaces it; a reader changes nothing. A file without an intact line
// belongs to another program and is not touched. io, or the latch of Open, must be held. A writer
// must hold the log.
func (l *Ledger) salvage(log Salvager, cause error) error {
	im := &salvager{image: newImage(true), at: map[string]int64{}}
	w, err := log.Salvage(im)
	if err != nil {
		return errors.Join(cause, err)
	}
	header := w.Header
	if header.ID == "" && im.version == 0 && w.Bytes > 0 && l.Version() == 0 {
		return fmt.Errorf("%w: %s holds no line of a namespace or a board: it belongs to another program and is not changed (%v)", journal.ErrForeign, l.Path(), cause)
	}
	l.keepKnown(im)
	d := &Damage{Path: l.Path(), Lost: w.Lost, Version: max(im.version, header.Base), Cause: cause}
	var recs []Named
	for name, n := range im.nodes {
		if n.Record().Found() { // changes, and so removed names, are reported only from here on
			d.Entries++
			recs = append(recs, Named{name, n.Record()})
		}
	}
	im.version, im.kept = d.Version, nil
	if im.schema = max(im.schema, header.Schema); im.schema <= 0 {
		im.schema = l.opts.Schema
	}
	if l.opts.ReadOnly {
		l.head = log.Pass(Head{Version: d.Version, Synced: d.Version})
	} else {
		if err := log.MayRewrite(); err != nil {
			return errors.Join(cause, err)
		}
		if d.Copy, err = log.CopyDamaged(l.opts.Now()); err != nil {
			return errors.Join(cause, fmt.Errorf("keep the damaged file: %w", err))
		}
		// Receipts are dropped, since some may be lost.
		lines, n := base{version: d.Version, schema: im.schema, keys: im.declaredKeys(), closed: im.closed == 1}.lines(recs)
		// Somebody may know a lost version, so changes are reported only from here on.
		life := header.LifeID()
		if life == "" { // a running program can know it
			life = l.Life()
		}
		header := journal.Header{Name: l.name, ID: newID(), Life: life, Base: d.Version, Lines: int64(n), Schema: im.schema, Oldest: d.Version, Receipts: d.Version, Rest: header.Rest}
		head, err := log.Rewrite(l.head, State{Header: header, Lines: lines, Count: n, Version: d.Version}, l.opts.Wait)
		if err != nil {
			return errors.Join(cause, err)
		}
		l.head = head
	}
	l.compactAt, l.schemaInFile = 0, true
	l.adopt(im.image, true)
	l.problem(d)
	return nil
}

// keepKnown adds the records that a running program has and the file has lost.
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

// Mend opens a ledger as a writer, or checks it again if this process has it open. It returns what
// it removed or salvaged; nil means nothing.
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
	if damage == nil && cut == nil { // it may have been open before, and unchanged since
		err = l.readAgain(note)
	}
	return damage, cut, errors.Join(err, l.Close())
}

// readAgain reads the whole file as Open does, salvages damage, and passes reports to note.
func (l *Ledger) readAgain(note func(error)) error {
	return l.Locked(func() error {
		listener, salvages := &Listener{Problem: note}, l.opts.Salvage
		l.join(Options{Listener: listener})
		l.opts.Salvage = true
		defer func() { l.opts.Salvage = salvages; l.Leave(listener) }()
		return l.reload(true, l.opts.Wait)
	})
}

// declaredKeys returns the keys that are declared after all lines.
func (im *image) declaredKeys() []entry.Declared {
	last := map[string]entry.Declared{}
	var order []string
	for _, k := range im.keys {
		if _, known := last[k.ID()]; !known {
			order = append(order, k.ID())
		}
		last[k.ID()] = k
	}
	var keys []entry.Declared
	for _, name := range order {
		if !last[name].Gone {
			keys = append(keys, last[name])
		}
	}
	return keys
}
