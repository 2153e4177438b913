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

// A Result is the result of a commit.
type Result struct {
	*Stamp        // of the commit; if Changed is false, of the newest commit before it
	Changed bool  // false: everything had these values already, and there is no new version
	Before  *Told // the commit before; nil if Options.Marks is 0
	After   *Told // this commit; if Changed is false, Before
	Duty    error // a *DutyError if the commit has to erase old bytes and that failed; it is retried
	owes    bool
}

// commitGroup evaluates requests and stores their changes. It reports whether the file should then
// be compacted.
func (l *Ledger) commitGroup(group []*request) (due bool) {
	l.io.Lock()
	defer l.io.Unlock()
	defer l.log.Release()
	defer l.scratch.settle()
	// One strict commit makes the whole group strict, even if it changes nothing.
	strict := slices.ContainsFunc(group, func(r *request) bool { return r.within <= 0 })
	judged := false // on the newest state
	var b *batch
	err := l.retryBehind(func() error {
		if err := l.mend(); err != nil {
			return err
		}
		if err := l.payDuty(false); errors.Is(err, ErrBehind) {
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
		return false
	case err != nil:
		// A commit that changed nothing can rest on one that was not stored, so it fails too.
		for _, r := range group {
			if r.err == nil {
				r.err = err
			}
		}
		return false
	case !strict && len(b.commits) > 0:
		l.flushWithin(group)
	}
	l.publish(b.commits)
	if cap(b.lines) > 1<<20 {
		l.scratch = batch{} // don't keep the memory of one large commit
	}
	return l.dueForCompaction()
}

// A batch holds the commits of a group that change something. Its memory is reused for the next
// group, except for the records that become visible.
type batch struct {
	commits []pending
	tx      Tx
	lines   []byte
	ahead   []*Node // have a record ahead

	// How much the commits so far in this group make the ledger larger; only if counted is set.
	counted bool
	names   int
	bytes   int64

	receipts map[receiptID]*Receipt // of commits
	closed   int                    // set by commits, as in commit.closed
}

// settle ends the time in which commits see earlier ones of the group that are not visible yet.
func (b *batch) settle() {
	for _, n := range b.ahead {
		n.ahead = nil
	}
	clear(b.ahead)
	b.ahead = b.ahead[:0]
	clear(b.receipts)
	b.closed = -1
}

// A pending commit has the records that it will show, one per change.
type pending struct {
	commit
	recs []*Record
}

// stamped holds a record and its stamp in one allocation, for the common commit of one change.
type stamped struct {
	Record
	stamp Stamp
}

// next returns the place of the next commit, with the memory of the previous group.
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

// drop removes the commit that next returned last.
func (b *batch) drop() { b.commits = b.commits[:len(b.commits)-1] }

// finish encodes the commit that next returned last, and returns its records.
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

// count adds the effect of the commit that next returned last to the sizes.
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

// The times that a line can hold, in milliseconds since 1970: the years 1 to 9999.
var (
	firstTime = time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
	lastTime  = time.Date(9999, 12, 31, 23, 59, 59, 999_000_000, time.UTC).UnixMilli()
)

// maxVersion is the last version that a commit can have.
const maxVersion = 1 << 62

func (l *Ledger) judgeAll(group []*request) *batch {
	b := &l.scratch
	b.settle() // evaluated on an older state
	b.commits, b.lines = b.commits[:0], b.lines[:0]
	b.counted, b.names, b.bytes = l.counted.Load(), 0, 0
	var keys map[string]entry.Declared
	schema := l.Schema()
	version := l.Version()
	var last *Stamp // of the previous commit of this group
	before := l.lastTold()
	now := min(max(l.opts.Now().UnixMilli(), firstTime), lastTime)
	if l.opts.Steady {
		now = max(now, l.newest.Load())
	}
	tx := &b.tx
	for _, r := range group {
		*tx = Tx{l: l, schema: schema, closed: -1, changes: tx.changes[:0]}
		if l.opts.Twice {
			_ = r.call(&Tx{l: l, schema: schema, closed: -1}) // only its side effects matter
		}
		if r.err = r.call(tx); r.err != nil || r.panicked != nil {
			continue
		}
		if version >= maxVersion {
			r.err = fmt.Errorf("%w: %s is at version %d, the last one possible; export its entries and import them into a new one", ErrNotStored, l.Path(), version)
			continue
		}
		c := b.next()
		c.Stamp = Stamp{Version: version + 1, At: now, By: r.author.By, From: r.author.From}
		c.text, c.synced = l.timeText(now), l.head.Synced
		c.owes = tx.owes
		for i := range tx.changes { // skip values that are stored already
			ch := &tx.changes[i]
			if ch.node == nil || ch.node.flags.Load()&detached != 0 {
				ch.node = l.Passing(ch.name)
			}
			old := ch.node.judged().Value
			if !value.Equal(old, ch.val) {
				c.changes = append(c.changes, *ch)
				if ch.val.Kind() == value.KindSealed && !old.IsZero() && old.Kind() != value.KindSealed {
					c.owes = owe(c.owes, ch.name)
				}
			}
		}
		for _, k := range tx.keys {
			have, ok := keys[k.ID()]
			if !ok {
				have, _ = tx.Declared(k.ID())
			}
			if !have.Equal(k) {
				if keys == nil {
					keys = map[string]entry.Declared{}
				}
				keys[k.ID()] = k
				c.keys = append(c.keys, k)
			}
		}
		if tx.schema != schema {
			c.schema, schema = tx.schema, tx.schema
		}
		if tx.closed >= 0 && tx.KeysClosed() != (tx.closed == 1) {
			c.closed = tx.closed
		}
		changes := len(c.changes) > 0 || len(c.keys) > 0 || c.schema >= 0 || c.closed >= 0 || c.owes != nil
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
		r.result = Result{Stamp: last, Changed: true, Before: before, After: before, owes: c.owes != nil}
		if l.opts.Marks > 0 {
			r.result.After = &Told{before.ID, version, c.end}
			before = r.result.After
		}
	}
	return b
}

// lastTold returns the newest commit.
func (l *Ledger) lastTold() *Told {
	if l.opts.Marks == 0 {
		return nil
	}
	return &Told{l.head.Header.ID, l.head.Version, l.head.End}
}

// timeText formats a time for a line. Many commits have the same time.
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

// publish makes commits visible and wakes watchers.
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
		l.duty.add(c.owes)
		l.version.Store(c.Version)
		l.newest.Store(max(c.At, l.newest.Load()))
		l.marks.add(told{c.Version, c.end})
		if len(l.watchers.all) > 0 && len(c.changes) > 0 {
			l.wake(func(yield func(string) bool) {
				for i := range c.changes {
					if !yield(c.changes[i].name) {
						return
					}
				}
			})
		}
	}
}

// show replaces a record. mu must be held.
func (l *Ledger) show(n *Node, rec *Record) {
	if l.snaps > 0 {
		rec.prev = n.rec.Load()
		l.chained = append(l.chained, n)
	}
	if l.live >= 0 {
		l.count(n.Name, n.Record().Value, rec.Value)
	}
	if n.Record().Found() != rec.Found() {
		l.naming.Add(1)
	}
	l.ring.add(rec.Version, n)
	n.set(rec)
}

// wake notifies the watchers of changed names, and those of everything. mu must be held.
func (l *Ledger) wake(names iter.Seq[string]) {
	for w := range l.watchers.every {
		w.tell()
	}
	for name := range names {
		l.watchers.tell(name)
	}
}

// wakeAll notifies all watchers. mu must be held.
func (l *Ledger) wakeAll() {
	for w := range l.watchers.all {
		w.tell()
	}
}
