package ledger

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/value"
)

// ErrTooLarge is returned for a value whose JSON form is over MaxValue.
var ErrTooLarge = errors.New("too large")

// A Result is what became of a commit.
type Result struct {
	*Stamp           // of the commit; with Changed false, of the newest before it
	Changed bool     // false: it all stood there already, and no version was made
	Before  *Told    // the commit before it; nil where Options.Marks is 0
	After   *Told    // this one; with Changed false, Before
	Sealed  []string // what stood under these in the clear is sealed now: its bytes are still in the file
}

// A Tx is a commit that is being judged: it sees the state with the commits
// before it, and collects changes. It belongs to the function that got it.
type Tx struct {
	l       *Ledger
	changes []change
	index   map[string]int // where a name stands in changes, once they are many
	keys    []entry.Declared
	schema  int64
	closed  int // as commit.closed
	receipt *Receipt
	sized   bool  // somebody asked for the Size
	grown   int64 // by how much the changes make it larger, where sized is set
}

// manyChanges is the number from which on a Tx keeps an index.
const manyChanges = 16

// Record gives a name's record, without the changes of this Tx.
func (tx *Tx) Record(name string) *Record {
	n := tx.l.Find(name)
	if n == nil {
		return never
	}
	return n.judged()
}

// RecordOf is Record for a name whose node is known, which saves looking for it.
func (tx *Tx) RecordOf(n *Node) *Record {
	if n.flags.Load()&detached != 0 {
		return tx.Record(n.Name)
	}
	return n.judged()
}

// Value gives what a name will hold when the changes so far are made.
func (tx *Tx) Value(name string) value.Value {
	if i := tx.find(name); i >= 0 {
		return tx.changes[i].val
	}
	return tx.Record(name).Value
}

// Changed gives the names that were put or dropped so far.
func (tx *Tx) Changed() []string {
	names := make([]string, len(tx.changes))
	for i, c := range tx.changes {
		names[i] = c.name
	}
	return names
}

// Names gives the names under which something is stored, by byte order, as
// far as Value tells.
func (tx *Tx) Names() []string {
	candidates := tx.Changed()
	for _, n := range tx.l.inOrder() {
		candidates = append(candidates, n.Name)
	}
	slices.Sort(candidates)
	candidates = slices.Compact(candidates)
	return slices.DeleteFunc(candidates, func(name string) bool { return tx.Value(name).IsZero() })
}

// ChangedSince gives the names that were set or removed after a version, without the
// changes of this Tx; what was removed long ago may be missing.
func (tx *Tx) ChangedSince(version int64) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, n := range tx.l.inOrder() {
			if n.judged().Version > version && !yield(n.Name) {
				return
			}
		}
	}
}

// OnNothing has a judge look at a ledger that holds nothing. What it changes is lost.
func OnNothing(judge func(*Tx) error) error {
	l := &Ledger{nodes: map[string]*Node{}, keys: map[string]entry.Declared{}, scratch: batch{closed: -1}, opts: Options{Now: time.Now}}
	return judge(&Tx{l: l, closed: -1})
}

func (tx *Tx) find(name string) int {
	if tx.index != nil {
		if i, found := tx.index[name]; found {
			return i
		}
		return -1
	}
	return slices.IndexFunc(tx.changes, func(c change) bool { return c.name == name })
}

// Put sets a name to a value that Encode made.
func (tx *Tx) Put(name string, e Encoded) { tx.set(change{name: name, val: e.val, json: e.json}) }

// PutTo is Put for a name whose node is known.
func (tx *Tx) PutTo(n *Node, e Encoded) {
	tx.set(change{node: n, name: n.Name, val: e.val, json: e.json})
}

// Drop removes a name.
func (tx *Tx) Drop(name string) { tx.set(change{name: name}) }

func (tx *Tx) set(c change) {
	i := tx.find(c.name)
	if tx.sized {
		before := tx.Record(c.name).Value
		if i >= 0 {
			before = tx.changes[i].val
		}
		tx.grown += sizeOf(c.name, c.val) - sizeOf(c.name, before)
	}
	if i >= 0 {
		tx.changes[i] = c
		return
	}
	tx.changes = append(tx.changes, c)
	switch {
	case tx.index != nil:
		tx.index[c.name] = len(tx.changes) - 1
	case len(tx.changes) > manyChanges:
		tx.index = make(map[string]int, 2*len(tx.changes))
		for i, c := range tx.changes {
			tx.index[c.name] = i
		}
	}
}

// Close closes the list of declared keys, or opens it.
func (tx *Tx) Close(closed bool) {
	tx.closed = 0
	if closed {
		tx.closed = 1
	}
}

// Closed says whether the list of declared keys is closed, as it was before this Tx.
func (tx *Tx) Closed() bool {
	if ahead := tx.l.scratch.closed; ahead >= 0 {
		return ahead == 1
	}
	return tx.l.Closed()
}

// Declare adds keys to the declared ones, or changes them.
func (tx *Tx) Declare(keys ...entry.Declared) { tx.keys = append(tx.keys, keys...) }

// Withdraw takes a key out of the declared ones.
func (tx *Tx) Withdraw(key entry.Declared) {
	key.Gone = true
	tx.keys = append(tx.keys, key)
}

// Schema is the number of the schema so far.
func (tx *Tx) Schema() int64 { return tx.schema }

// Declared gives the key that was declared under a name, if one was.
func (tx *Tx) Declared(name string) (entry.Declared, bool) {
	tx.l.mu.RLock()
	defer tx.l.mu.RUnlock()
	d, ok := tx.l.keys[name]
	return d, ok
}

// Keys gives the declared keys by their names, as they were before this Tx.
func (tx *Tx) Keys() []entry.Declared { return tx.l.Keys() }

// Size is how many bytes the names and values will have together, about. It
// costs what the commit changes.
func (tx *Tx) Size() int64 {
	_, size := tx.before()
	if !tx.sized {
		tx.sized = true
		for _, c := range tx.changes {
			tx.grown += sizeOf(c.name, c.val) - sizeOf(c.name, tx.Record(c.name).Value)
		}
	}
	return size + tx.grown
}

// before tells what there is without the changes of this Tx.
func (tx *Tx) before() (names int, bytes int64) {
	names, bytes = tx.l.Count()
	b := &tx.l.scratch
	if b.counted {
		return names + b.names, bytes + b.bytes
	}
	for _, n := range b.ahead { // for once: by now it has been counted
		names += there(n.ahead.Value) - there(n.Record().Value)
		bytes += sizeOf(n.Name, n.ahead.Value) - sizeOf(n.Name, n.Record().Value)
	}
	return names, bytes
}

func there(v value.Value) int {
	if v.IsZero() {
		return 0
	}
	return 1
}

// Count is how many names will hold something. It costs what the commit changes.
func (tx *Tx) Count() int {
	n, _ := tx.before()
	for _, c := range tx.changes {
		n += there(c.val) - there(tx.Record(c.name).Value)
	}
	return n
}

// SetSchema sets the number of the schema.
func (tx *Tx) SetSchema(n int64) { tx.schema = n }

// Encoded is a value that is fit to be stored, with its JSON form, made
// before the commit queues. Of what is short that is made with the line.
type Encoded struct {
	val  value.Value
	json []byte
}

// Encode checks a value and makes its JSON form. Errors wrap value.ErrInvalid
// or ErrTooLarge.
func Encode(v value.Value) (Encoded, error) {
	e := Encoded{val: v}
	switch v.Kind() {
	case value.KindBool, value.KindInt, value.KindFloat:
		return e, nil // which are fit whatever they are
	}
	if err := v.Check(); err != nil {
		return Encoded{}, err
	}
	if v.Kind() == value.KindTime {
		return e, nil
	}
	e.json = v.AppendJSON(nil)
	if len(e.json) > MaxValue {
		return Encoded{}, fmt.Errorf("%w: the value takes %d bytes, and %d is the most: keep it in a file, and its name here", ErrTooLarge, len(e.json), MaxValue)
	}
	return e, nil
}

// Value is the value; no value in the zero Encoded.
func (e Encoded) Value() value.Value { return e.val }

// shortJSON is what the JSON form of a number or a time never exceeds.
const shortJSON = 64

// Size is the length of the JSON form.
func (e Encoded) Size() int {
	if e.json != nil {
		return len(e.json)
	}
	var short [shortJSON]byte
	return len(e.val.AppendJSON(short[:0]))
}

// Exceeds says whether the JSON form is longer than most.
func (e Encoded) Exceeds(most int) bool {
	if e.json == nil && most >= shortJSON {
		return false
	}
	return e.Size() > most
}

func (l *Ledger) commitGroup(group []*request) {
	l.io.Lock()
	defer l.io.Unlock()
	defer l.log.Release()
	defer l.scratch.settle()
	// Whoever wants to be certain makes it so for all, even when what is there
	// already is all that he asked for.
	strict := slices.ContainsFunc(group, func(r *request) bool { return r.within <= 0 })
	judged := false // on what is certainly the newest
	var b *batch
	err := l.insist(func() error {
		if err := l.mend(); err != nil {
			return err
		}
		b = l.judgeAll(group)
		err := l.write(Batch{Lines: b.lines, Count: len(b.commits), Sync: strict, Wait: l.left(group)})
		judged = err == nil || errors.Is(err, ErrNotStored) || errors.Is(err, ErrUncertain)
		return err
	})
	l.lastGroup, l.lastTook = len(group), l.head.Took
	switch {
	case !judged:
		l.failed(group, err)
		return
	case err != nil:
		// What changed nothing may rest on what was not stored: it fails too.
		for _, r := range group {
			if r.err == nil {
				r.err = err
			}
		}
		return
	case !strict && len(b.commits) > 0:
		l.flushWithin(group)
	}
	l.publish(b.commits)
	if cap(b.lines) > 1<<20 {
		l.scratch = batch{} // not for ever what one large commit needed
	}
	l.compact()
}

// A batch is the commits of a group that change something. Its memory is used
// again for the next group; the records that become visible are not part of it.
type batch struct {
	commits []pending
	tx      Tx
	lines   []byte
	ahead   []*Node // that have a record ahead

	// By how much commits before, of this group, make the ledger larger; only where
	// counted is set: it had been counted when the group began.
	counted bool
	names   int
	bytes   int64

	receipts map[receiptID]*Receipt // of commits
	closed   int                    // by them, as commit.closed
}

// settle ends the time in which commits see those before that are not visible.
func (b *batch) settle() {
	for _, n := range b.ahead {
		n.ahead = nil
	}
	clear(b.ahead)
	b.ahead = b.ahead[:0]
	clear(b.receipts)
	b.closed = -1
}

// A pending commit has the records that it will show, one for each change.
type pending struct {
	commit
	recs []*Record
}

// stamped is a record with its stamp, for the commits of one change, which most are.
type stamped struct {
	Record
	stamp Stamp
}

// next gives the place of the next commit, with the memory of the one that
// stood there in the group before.
func (b *batch) next() *pending {
	n := len(b.commits)
	if n == cap(b.commits) {
		b.commits = append(b.commits, pending{})
	} else {
		b.commits = b.commits[:n+1]
	}
	c := &b.commits[n]
	*c = pending{commit{changes: c.changes[:0], schema: -1, closed: -1}, c.recs[:0]}
	return c
}

// drop takes back the commit that next gave last.
func (b *batch) drop() { b.commits = b.commits[:len(b.commits)-1] }

// finish writes the line of the commit that next gave last, and gives its records.
func (b *batch) finish(c *pending) []*Record {
	stamp := (*Stamp)(nil)
	for i := range c.changes {
		ch := &c.changes[i]
		first := int64(0)
		if !ch.val.IsZero() {
			first = ch.node.judged().firstOr(c.Version)
		}
		if stamp == nil {
			one := &stamped{stamp: c.Stamp}
			stamp = &one.stamp
			one.Record = Record{Value: ch.val, Stamp: stamp, First: first}
			c.recs = append(c.recs, &one.Record)
			continue
		}
		c.recs = append(c.recs, &Record{Value: ch.val, Stamp: stamp, First: first})
	}
	b.lines = c.appendLine(b.lines)
	c.end = journal.EndOf(b.lines)
	return c.recs
}

// count takes in what the commit that next gave last makes of the sizes.
func (b *batch) count(c *pending) {
	if !b.counted {
		return
	}
	for _, ch := range c.changes {
		old := ch.node.judged().Value
		b.names += there(ch.val) - there(old)
		b.bytes += sizeOf(ch.name, ch.val) - sizeOf(ch.name, old)
	}
}

func (l *Ledger) judgeAll(group []*request) *batch {
	b := &l.scratch
	b.settle() // what was judged on an older state
	b.commits, b.lines = b.commits[:0], b.lines[:0]
	b.counted, b.names, b.bytes = l.counted.Load(), 0, 0
	var keys map[string]entry.Declared
	schema := l.Schema()
	version := l.Version()
	var last *Stamp // of the commit before, of this group
	before := l.lastTold()
	now := l.opts.Now().UnixMilli()
	tx := &b.tx
	for _, r := range group {
		*tx = Tx{l: l, schema: schema, closed: -1, changes: tx.changes[:0]}
		if l.opts.Twice {
			_ = r.call(&Tx{l: l, schema: schema, closed: -1}) // only its side effects matter
		}
		if r.err = r.call(tx); r.err != nil || r.panicked != nil {
			continue
		}
		c := b.next()
		c.Stamp = Stamp{Version: version + 1, At: now, By: r.author.By, From: r.author.From}
		c.text, c.synced = l.timeText(now), l.head.Synced
		var sealed []string
		for i := range tx.changes { // but for what stands there already
			ch := &tx.changes[i]
			if ch.node == nil || ch.node.flags.Load()&detached != 0 {
				ch.node = l.Passing(ch.name)
			}
			old := ch.node.judged().Value
			if !value.Equal(old, ch.val) {
				c.changes = append(c.changes, *ch)
				if ch.val.Kind() == value.KindSealed && !old.IsZero() && old.Kind() != value.KindSealed {
					sealed = append(sealed, ch.name)
				}
			}
		}
		for _, k := range tx.keys {
			have, ok := keys[k.Name]
			if !ok {
				have, _ = tx.Declared(k.Name)
			}
			if !have.Equal(k) {
				if keys == nil {
					keys = map[string]entry.Declared{}
				}
				keys[k.Name] = k
				c.keys = append(c.keys, k)
			}
		}
		if tx.schema != schema {
			c.schema, schema = tx.schema, tx.schema
		}
		if tx.closed >= 0 && tx.Closed() != (tx.closed == 1) {
			c.closed = tx.closed
		}
		changes := len(c.changes) > 0 || len(c.keys) > 0 || c.schema >= 0 || c.closed >= 0
		if changes && schema > 0 && !l.schemaTold {
			c.schema = schema
		}
		if !changes {
			b.drop()
			if last == nil {
				last = &Stamp{Version: version}
			}
			r.result = Result{Stamp: last, Before: before, After: before}
			continue
		}
		version++
		b.count(c)
		if c.closed >= 0 {
			b.closed = c.closed
		}
		if tx.receipt != nil {
			if b.receipts == nil {
				b.receipts = map[receiptID]*Receipt{}
			}
			c.receipt = tx.receipt
			c.receipt.Version, c.receipt.At = version, now
			b.receipts[c.receipt.id()] = c.receipt
		}
		recs := b.finish(c)
		if len(recs) > 0 {
			last = recs[0].Stamp
		} else {
			last = &Stamp{Version: c.Version, At: c.At, By: c.By, From: c.From}
		}
		if len(group) > 1 {
			for i := range c.changes {
				n := c.changes[i].node
				if n.ahead == nil {
					b.ahead = append(b.ahead, n)
				}
				n.ahead = recs[i]
			}
		}
		r.result = Result{Stamp: last, Changed: true, Before: before, After: before, Sealed: sealed}
		if l.opts.Marks > 0 {
			r.result.After = &Told{before.ID, version, c.end}
			before = r.result.After
		}
	}
	return b
}

// lastTold tells of the newest commit.
func (l *Ledger) lastTold() *Told {
	if l.opts.Marks == 0 {
		return nil
	}
	return &Told{l.head.Header.ID, l.head.Version, l.head.End}
}

// timeText gives a time as it stands in a line; many commits have the same.
func (l *Ledger) timeText(ms int64) string {
	if l.at.text == "" || l.at.ms != ms {
		l.at.ms, l.at.text = ms, entry.FormatTime(time.UnixMilli(ms))
	}
	return l.at.text
}

func (r *request) call(tx *Tx) error {
	defer func() { r.panicked = recover() }()
	return r.judge.Judge(tx)
}

// publish makes commits visible and wakes who watches their names.
func (l *Ledger) publish(commits []pending) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range commits {
		c := &commits[i]
		for i := range c.changes {
			l.show(c.changes[i].node, c.recs[i])
		}
		l.adoptKeys(c.keys)
		if c.schema >= 0 {
			l.schema, l.schemaTold = c.schema, true
		}
		if c.closed >= 0 {
			l.keysClosed = c.closed == 1
		}
		if c.receipt != nil {
			l.receipts.add(c.receipt, l.opts.Now())
		}
		l.version.Store(c.Version)
		l.marks.add(told{c.Version, c.end})
		if len(l.watchers) == 0 {
			continue
		}
		l.wake(func(w *Watcher) bool {
			return slices.ContainsFunc(c.changes, func(ch change) bool { return w.Wants(ch.name) })
		})
	}
}

// show puts a record in the place of another; mu must be held.
func (l *Ledger) show(n *Node, rec *Record) {
	if l.snaps > 0 {
		rec.prev = n.rec.Load()
		l.chained = append(l.chained, n)
	}
	if l.live >= 0 {
		l.count(n.Name, n.Record().Value, rec.Value)
	}
	l.ring.add(rec.Version, n)
	n.set(rec)
}

// wake tells the watchers that are concerned; mu must be held.
func (l *Ledger) wake(concerned func(*Watcher) bool) {
	for w := range l.watchers {
		if concerned(w) {
			w.tell()
		}
	}
}
