package ledger

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A decoder decodes lines, one after the other, into its commit.
type decoder struct {
	r     scan.Reader
	c     commit
	names strings.Builder // see keep
	by    word
	from  word
	at    struct { // the last time that was parsed
		text string
		ms   int64
	}

	// If placing is set, the entries of a line go to set instead of c.changes, which saves copying each
	// value. Their stamp is set later.
	placing bool
	whole   bool // a whole file is decoded: see keep
	set     []*place
	free    *place // a place that is not used
	stamp   *Stamp
}

// A place is a node with its first record.
type place struct {
	Node
	first Record
}

// place returns a place that is not used.
func (d *decoder) place() *place {
	p := d.free
	if d.free = nil; p == nil {
		p = new(place)
	}
	return p
}

// release makes the next place be p, which is not used.
func (d *decoder) release(p *place) {
	*p = place{}
	d.free = p
}

func (d *decoder) decode(line []byte) error {
	d.r.Reset(line)
	d.c = commit{changes: d.c.changes[:0], schema: -1, closed: -1, synced: -1}
	d.set = d.set[:0]
	c, r := &d.c, &d.r
	if d.usualLine() {
		return nil
	}
	if err := r.Object(d.readMember); err != nil {
		return fmt.Errorf("it can't be read: %w", err)
	}
	if c.Version < 1 {
		return fmt.Errorf("it has no version")
	}
	if c.receipt != nil {
		c.receipt.Version, c.receipt.At = c.Version, c.At
	}
	if c.synced < 0 {
		c.synced = c.Version - 1
	}
	return nil
}

// readMember reads one member of a line.
func (d *decoder) readMember(name []byte) (err error) {
	c, r := &d.c, &d.r
	switch string(name) {
	case "version":
		c.Version, err = r.Int()
	case "at":
		var at time.Time
		at, err = entry.ReadTime(r)
		c.At = at.UnixMilli()
	case "synced":
		c.synced, err = r.Int()
	case "by":
		c.By, err = r.String()
	case "from":
		c.From, err = r.String()
	case "schema":
		c.schema, err = r.Int()
	case "closed":
		var closed bool
		if closed, err = r.Bool(); closed {
			c.closed = 1
		} else {
			c.closed = 0
		}
	case "owes":
		c.owes = []string{}
		err = r.Array(func() error {
			name, err := r.String()
			c.owes = append(c.owes, name)
			return err
		})
	case "receipt":
		c.receipt, err = readReceipt(r)
	case "receipts":
		err = r.Array(func() error {
			one, err := readReceipt(r)
			c.moved = append(c.moved, one)
			return err
		})
	case "set":
		if n := len(r.Rest()) / shortEntry; n > manyEntries {
			d.set = slices.Grow(d.set, n)
		}
		err = r.Array(d.readSet)
	case "drop":
		err = r.Array(func() error {
			name, err := r.String()
			c.changes = append(c.changes, change{name: name})
			return err
		})
	case "over":
		if c.over, err = r.Int(); err == nil && c.over < 1 {
			err = r.Errorf("a line for %d commits, which ends", c.over)
		}
	case "end":
		var end string
		end, err = r.String()
		c.end = journal.ParseEnd(end)
	case "keys":
		err = r.Array(func() error {
			key, err := entry.ReadDeclared(r)
			c.keys = append(c.keys, key)
			return err
		})
	case "crc":
		_, err = r.Raw(0)
	default:
		err = c.more().line.Keep(r, name, value.MaxDepth)
	}
	return err
}

// usualLine decodes a line with one entry in the form in which this code writes it, on a device or on a
// board. Most lines of a long history are like that. For any other line it consumes nothing and returns false.
func (d *decoder) usualLine() bool {
	c, r := &d.c, &d.r
	start := r.Offset()
	no := func() bool {
		r.Back(start)
		if len(d.set) > 0 {
			d.release(d.set[0])
		}
		d.set, c.changes = d.set[:0], c.changes[:0]
		return false
	}
	if !r.Literal(`{"version":`) {
		return no()
	}
	version, err := r.Int()
	if err != nil || version < 1 || !r.Literal(`,"at":"`) {
		return no()
	}
	text := r.Rest()
	if text = text[:min(len(text), entry.TimeLen)]; string(text) != d.at.text {
		at, err := entry.ParseTime(text)
		if err != nil {
			return no()
		}
		d.at.text, d.at.ms = string(text), at.UnixMilli()
	}
	r.Skip(len(text))
	synced := version - 1
	if r.Literal(`","synced":`) {
		if synced, err = r.Int(); err != nil || synced < 0 {
			return no()
		}
	} else if !r.Literal(`"`) {
		return no()
	}
	by, ok := d.by.read(r, `,"by":`)
	if !ok {
		return no()
	}
	from, ok := d.from.read(r, `,"from":`)
	if !ok || !r.Literal(`,"set":[`) || !d.readUsual() || !r.Literal(`]`) {
		return no()
	}
	var receipt *Receipt
	if r.Literal(`,"receipt":`) { // of a write to a board
		if receipt, err = readReceipt(r); err != nil {
			return no()
		}
		receipt.Version, receipt.At = version, d.at.ms
	}
	if !r.Literal(`,"crc":"`) || len(r.Rest()) != len(`01234567"}`) {
		return no()
	}
	c.Version, c.At, c.By, c.From, c.synced, c.receipt = version, d.at.ms, by, from, synced, receipt
	return true
}

// A word is a text that many lines have, for example the name of a writer.
type word struct{ text string }

// read reads the member with the text, if it is next. ok is false if it can't be read.
func (w *word) read(r *scan.Reader, member string) (text string, ok bool) {
	if !r.Literal(member) {
		return "", true
	}
	raw, err := r.StringBytes()
	if err != nil {
		return "", false
	}
	if w.text != string(raw) {
		w.text = string(raw)
	}
	return w.text, true
}

func (d *decoder) readSet() error {
	r := &d.r
	if d.readUsual() {
		return nil
	}
	var ch change
	var kind value.Kind
	var rest scan.Rest
	err := r.Object(func(member []byte) (err error) {
		switch string(member) {
		case "name":
			ch.name, err = r.String()
		case "kind":
			kind, err = entry.ReadKind(r)
		case "value":
			ch.json, err = r.Raw(value.MaxDepth)
		case "first":
			ch.first, err = r.Int()
		default:
			err = rest.Keep(r, member, value.MaxDepth)
		}
		return err
	})
	if err == nil && ch.json != nil && kind != value.KindNone {
		ch.val, err = value.Parse(kind, ch.json)
	}
	ch.json = nil
	switch {
	case err != nil:
		return err
	case ch.name == "" || ch.val.IsZero():
		return r.Errorf("an entry without a name, a kind or a value, which ends")
	}
	d.add(ch.name, ch.val, ch.first)
	if rest != nil {
		d.c.more().entries[ch.name] = rest
	}
	return nil
}

func (d *decoder) add(name string, v value.Value, first int64) {
	if !d.placing {
		d.c.changes = append(d.c.changes, change{name: name, val: v, first: first})
		return
	}
	p := d.place()
	p.Name = name
	rec := &p.first
	switch v.Kind() {
	case value.KindBool, value.KindInt, value.KindFloat, value.KindTime:
	default:
		rec = new(Record) // first lives as long as the node, and so would what it refers to
	}
	rec.Value, rec.Stamp, rec.First = v, d.stamp, first
	p.rec.Store(rec)
	d.set = append(d.set, p)
}

// shortEntry is the approximate length of a short entry in a line. A line with more than manyEntries
// reserves room for them.
const (
	shortEntry  = 48
	manyEntries = 128
)

// keep returns a name as a string. Names live as long as the ledger, and are allocated many at a
// time, for the row "Open and Close of 100000 ints" in docs/benchmarks.md.
func (d *decoder) keep(name []byte) string {
	if d.placing && !d.whole { // with few lines, don't keep a page for one name
		return string(name)
	}
	if d.names.Cap()-d.names.Len() < len(name) {
		d.names = strings.Builder{}
		d.names.Grow(max(4096, len(name)))
	}
	start := d.names.Len()
	d.names.Write(name)
	return d.names.String()[start:]
}

// readUsual decodes an entry in the form in which this code writes it: name, kind and value. For
// any other it consumes nothing and returns false.
func (d *decoder) readUsual() bool {
	r := &d.r
	start := r.Offset()
	var name, kind []byte
	var err error
	if r.Literal(`{"name":`) {
		name, err = r.StringBytes()
		if err == nil && len(name) > 0 && r.Literal(`,"kind":"int","value":`) { // the most frequent kind
			if n, err := r.Int(); err == nil && r.Literal(`}`) {
				d.add(d.keep(name), value.Int(n), 0)
				return true
			}
		} else if err == nil && r.Literal(`,"kind":`) {
			kind, err = r.StringBytes()
		}
	}
	if err == nil && len(name) > 0 && len(kind) > 0 && r.Literal(`,"value":`) {
		if k := value.KindNamed(kind); k != value.KindNone {
			if v, n, err := value.ParsePrefix(k, r.Rest()); err == nil {
				if r.Skip(n); r.Literal(`}`) {
					d.add(d.keep(name), v, 0)
					return true
				}
			}
		}
	}
	r.Back(start)
	return false
}
