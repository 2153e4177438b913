package ledger

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/value"
)

// Refresh reads what other processes have appended.
func (l *Ledger) Refresh() error {
	l.io.Lock()
	defer l.io.Unlock()
	if l.isClosed() {
		return ErrClosed
	}
	return l.follow(l.opts.Wait)
}

// followIfDue is Refresh unless somebody looked just now.
func (l *Ledger) followIfDue() error {
	l.io.Lock()
	defer l.io.Unlock()
	if l.isClosed() || time.Since(l.looked) < l.followsEvery()/2 {
		return nil
	}
	l.looked = time.Now()
	// Whoever waits must hear at once when his time is over; the next look is near.
	if err := l.follow(l.followsEvery() / 4); !errors.Is(err, journal.ErrBusy) {
		return err
	}
	return nil
}

// Current takes in all that anybody was told of before it was called. The errors are those
// of Refresh, that of ctx, and those of a Fencer.
func (l *Ledger) Current(ctx context.Context) error { return l.upTo(ctx, math.MaxInt64) }

// Reach is Current for whoever lives off what comes in by itself, and knows of a version
// already: that one is taken in, if there is one.
func (l *Ledger) Reach(ctx context.Context, version int64) error { return l.upTo(ctx, version) }

func (l *Ledger) upTo(ctx context.Context, version int64) error {
	f, ok := l.log.(Fencer)
	if !ok {
		return l.look()
	}
	if l.Version() >= version {
		return nil
	}
	newest, err := f.Fence(ctx)
	if err != nil || l.Version() >= newest {
		return err
	}
	return l.Refresh()
}

// glance is how often a file is looked at for whoever reads, at most.
const glance = time.Second

// look takes in what another put in the file's place, where nobody looked at it
// for a second; a commit that is under way looks itself.
func (l *Ledger) look() error {
	if !l.io.TryLock() {
		return nil
	}
	defer l.io.Unlock()
	if l.isClosed() || time.Since(l.looked) < glance {
		return nil
	}
	l.looked = time.Now()
	if err := l.follow(glance); !IsNotExist(err) { // where it was taken away, all of it is still known
		return err
	}
	return nil
}

func (l *Ledger) followsEvery() time.Duration { return time.Duration(l.followEvery.Load()) }

func (l *Ledger) isClosed() bool {
	select {
	case <-l.closed:
		return true
	default:
		return false
	}
}

// follow takes in what others wrote, without keeping them from writing; io must
// be held.
func (l *Ledger) follow(wait time.Duration) error {
	defer l.log.Release()
	return l.takeIn(false, wait)
}

// catchUp takes in what others wrote, for a write; io must be held, and Release
// called after it.
func (l *Ledger) catchUp(wait time.Duration) error {
	err := l.takeIn(true, wait)
	if IsNotExist(err) {
		// Somebody took the file away under a running program, which still
		// has all of it: mend writes it again.
		l.broken = err
		l.problem(fmt.Errorf("%s was removed while it was open, and is written again", l.Path()))
		return nil
	}
	return err
}

// takeIn makes visible what is in the log and not yet known. Alone, others are
// kept from writing, and so what is damaged may be mended.
func (l *Ledger) takeIn(alone bool, wait time.Duration) error {
	im := newImage(false)
	im.marked = l.opts.Marks > 0
	if l.rewriting != nil {
		im.beside = &written{}
	}
	head, err := l.log.After(l.head, im, wait)
	switch {
	case errors.Is(err, ErrAnew), isDamage(err):
		return l.reload(alone, wait)
	case err != nil:
		return err
	}
	if l.rewriting != nil {
		l.rewriting.since.add(im.beside.bytes, im.beside.count)
	}
	more := head.Version > l.head.Version
	if l.head = head; more {
		l.adopt(im, false)
	}
	return nil
}

// reload reads all there is; io, or the latch of Open, must be held, and Release
// called after it. What is damaged is salvaged, where that is wanted, by a writer
// who is alone, or a reader.
func (l *Ledger) reload(alone bool, wait time.Duration) error {
	im := newImage(true)
	im.marked = l.opts.Marks > 0
	head, err := l.log.Load(im, wait)
	switch s, ok := l.log.(Salvager); {
	case isDamage(err) && ok && l.opts.Salvage:
		if alone || l.opts.ReadOnly {
			return l.salvage(s, err)
		}
		if err := l.log.Hold(wait); err != nil {
			return err
		}
		return l.reload(true, wait) // another may have done it meanwhile
	case err != nil:
		return err
	}
	l.schemaTold = im.schema >= 0
	if im.schema < 0 {
		im.schema = head.Header.Schema
	}
	im.version = head.Version
	l.head, l.compactAt = head, notBefore(head.Size)
	l.adopt(im, true)
	return nil
}

// adopt makes an image visible: all of the state, or what changed.
func (l *Ledger) adopt(im *image, whole bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if whole && len(l.nodes) == 0 && len(l.watchers) == 0 {
		// The first load: the image becomes the state.
		im.trim()
		l.nodes = im.nodes
		l.unordered = true
		l.ring.from = im.version
	} else {
		l.merge(im, whole)
	}
	if whole {
		l.duty = im.duty
	} else {
		l.duty.join(im.duty)
	}
	if whole {
		l.marks.anew(l.head.Header, im.told)
		l.receipts.reset(l.head.Header.Receipts)
		l.keysClosed = false
		clear(l.keys)
		l.oldest = l.head.Header.Oldest
	}
	for _, t := range im.told {
		if !whole {
			l.marks.add(t)
		}
	}
	for _, r := range im.kept { // in the order of their commits, since lines and what they hold are
		l.receipts.add(r, l.opts.Now())
	}
	if im.closed >= 0 {
		l.keysClosed = im.closed == 1
	}
	l.adoptKeys(im.keys)
	if im.schema >= 0 {
		l.schema = im.schema
	}
	l.version.Store(im.version)
	l.newest.Store(max(im.at, l.newest.Load()))
}

// merge shows what differs and wakes who watches it; mu must be held.
func (l *Ledger) merge(im *image, whole bool) {
	type differing struct {
		node *Node
		rec  *Record
	}
	var changed []differing
	differ := func(n *Node, rec *Record) {
		old := n.Record()
		if rec.First < 0 {
			rec.First = old.firstOr(-rec.First)
		}
		if old.Version != rec.Version || !value.Equal(old.Value, rec.Value) {
			changed = append(changed, differing{n, rec})
		}
	}
	for name, n := range im.nodes {
		differ(l.nodeLocked(name), n.Record())
	}
	if whole {
		for name, n := range l.nodes {
			if im.nodes[name] == nil && n.Record().Found() {
				differ(n, &Record{Stamp: &Stamp{Version: im.version}})
			}
		}
	}
	slices.SortFunc(changed, func(a, b differing) int { return cmp.Compare(a.rec.Version, b.rec.Version) })
	if len(changed) > 0 && changed[0].rec.Version <= l.Version() {
		l.ring.reset(im.version) // another past than the one that was told
	}
	for _, c := range changed {
		l.show(c.node, c.rec)
	}
	l.wake(func(w *Watcher) bool {
		return slices.ContainsFunc(changed, func(c differing) bool { return w.Wants(c.node.Name) })
	})
}

// write appends a batch, to be called again where it is behind; io must be held,
// and Release called after it.
func (l *Ledger) write(b Batch) (err error) {
	if l.head, err = l.log.Append(l.head, b); err == nil {
		if l.rewriting != nil {
			l.rewriting.since.add(b.Lines, b.Count)
		}
		return nil
	}
	if disk := (*DiskError)(nil); errors.As(err, &disk) {
		return l.startAnew(disk, b.Count > 0)
	}
	return err
}

// startAnew writes the last good state from memory in place of what is on a
// disk that has failed. Until that succeeds nothing can be written. What was to
// be written is lost with it, if there was any.
func (l *Ledger) startAnew(cause error, lost bool) error {
	l.problem(fmt.Errorf("%s: the disk failed: %w", l.Path(), cause))
	if err := l.rewrite(false); err != nil {
		l.broken = errors.Join(cause, err)
		return fmt.Errorf("%w: %w", ErrUncertain, l.broken)
	}
	if lost {
		return fmt.Errorf("%w: %w", ErrNotStored, cause)
	}
	return nil
}

// Flush makes every prompt commit durable. Errors are those of Commit.
func (l *Ledger) Flush() error {
	l.io.Lock()
	defer l.io.Unlock()
	if l.flushing != nil {
		l.flushing.Stop()
		l.flushing = nil
	}
	if l.isClosed() {
		return ErrClosed
	}
	if l.opts.ReadOnly || l.head.Synced == l.head.Version && l.broken == nil {
		return nil
	}
	defer l.log.Release()
	return notStored(l.insist(func() error {
		if err := l.mend(); err != nil {
			return err
		}
		return l.write(Batch{Sync: true, Wait: l.opts.Wait})
	}))
}

// flushWithin has a group of prompt commits synced in time; io must be held.
func (l *Ledger) flushWithin(group []*request) {
	if l.flushing != nil {
		return
	}
	within := group[0].within
	for _, r := range group {
		within = min(within, r.within)
	}
	l.flushing = time.AfterFunc(within, func() {
		if err := l.Flush(); err != nil && !errors.Is(err, ErrClosed) {
			l.problem(fmt.Errorf("%s: what was written in the last %v is not synced: %w", l.Path(), within, err))
		}
	})
}

// notStored makes whatever the machine refused before anything was written an
// ErrNotStored; what says more stays as it is.
func notStored(err error) error {
	if err == nil {
		return nil
	}
	_, damage := journal.AsDamage(err)
	if damage || errors.As(err, new(*journal.NewerError)) {
		return err
	}
	for _, more := range []error{journal.ErrBusy, journal.ErrForeign, ErrClosed, ErrReadOnly, ErrNotStored, ErrUncertain, fs.ErrPermission} {
		if errors.Is(err, more) {
			return err
		}
	}
	return fmt.Errorf("%w: %w", ErrNotStored, err)
}

// mend writes a file whose disk failed anew from memory, before anything else
// is appended; io must be held, and Release called after it.
func (l *Ledger) mend() error {
	if l.broken == nil {
		return nil
	}
	if err := l.rewrite(false); err != nil {
		return fmt.Errorf("%w: the disk failed before (%w), and the file can't be written anew: %w", ErrNotStored, l.broken, err)
	}
	l.broken = nil
	return nil
}

// rewrite puts the present state in place of all there is; io must be held, and
// Release called after it. With forget, removed names are forgotten too.
func (l *Ledger) rewrite(forget bool) error {
	version := l.Version()
	s := &Snapshot{l: l, Version: version} // nothing can change while io is held
	var recs []Named
	for e := range s.all("", "") {
		recs = append(recs, e)
	}
	next := State{Header: *l.head.Header, Version: version, End: l.head.End}
	forget = forget || !l.duty.done()
	if forget {
		next.Header = l.forgotten()
	}
	header := &next.Header
	header.Base, header.End, header.Schema = version, l.head.End, l.Schema()
	state := base{version: version, schema: header.Schema, keys: l.Keys(), closed: l.KeysClosed()}
	state.kept, header.Receipts = l.keptReceipts(0, version, forget)
	recs = tombstones(recs, &header.Oldest, l.opts.Now())
	next.Lines, next.Count = state.lines(recs)
	header.Lines = int64(next.Count)
	replaced, err := l.replace(next, l.opts.Wait)
	if !replaced {
		return err
	}
	l.compactAt = 0
	if forget && err == nil {
		l.duty = duty{}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.oldest = header.Oldest
	l.identify(header.ID)
	return err
}

// replace replaces the log by a state. replaced is also true if only the sync of the directory failed:
// then the new file is in place, and err says so.
func (l *Ledger) replace(s State, wait time.Duration) (replaced bool, err error) {
	before := l.head.Header
	l.head, err = l.log.Rewrite(l.head, s, wait)
	return err == nil || l.head.Header != before, err
}

// identify takes in the id of a file that was written in place of another; mu must be
// held. With another id no mark means anything any more, and all who watch are told.
func (l *Ledger) identify(id string) {
	if l.marks.id != id {
		l.marks.id, l.marks.all = id, l.marks.all[:0]
		l.marks.add(told{l.head.Version, l.head.End})
		l.wake(func(*Watcher) bool { return true })
	}
}

// IsNotExist says whether err means that there is no such ledger.
func IsNotExist(err error) bool { return errors.Is(err, fs.ErrNotExist) }
