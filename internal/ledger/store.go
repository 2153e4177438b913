package ledger

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// Refresh reads what other processes have appended.
func (l *Ledger) Refresh() error {
	l.io.Lock()
	defer l.io.Unlock()
	if l.Closed() {
		return ErrClosed
	}
	return l.follow(l.opts.Wait)
}

// followIfDue is Refresh, unless somebody did it just now.
func (l *Ledger) followIfDue() error {
	l.io.Lock()
	defer l.io.Unlock()
	if l.Closed() || time.Since(l.looked) < l.followsEvery()/2 {
		return nil
	}
	l.looked = time.Now()
	// A waiting caller must return in time; the next look comes soon.
	if err := l.follow(l.followsEvery() / 4); !errors.Is(err, journal.ErrBusy) {
		return err
	}
	return nil
}

// Current reads everything that was acknowledged before the call. The errors are those of Refresh,
// of ctx, and of a Fencer.
func (l *Ledger) Current(ctx context.Context) error { return l.upTo(ctx, math.MaxInt64) }

// Reach is Current for a caller that needs only the state at a version, if there is one.
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

// glance is how often a file is checked for readers, at most.
const glance = time.Second

// look reads a replaced file, if the last check is over a second ago. A commit under way checks by
// itself.
func (l *Ledger) look() error {
	if !l.io.TryLock() {
		return nil
	}
	defer l.io.Unlock()
	if l.Closed() || time.Since(l.looked) < glance {
		return nil
	}
	l.looked = time.Now()
	if err := l.follow(glance); !IsNotExist(err) { // if the file is gone, everything is still in memory
		return err
	}
	return nil
}

func (l *Ledger) followsEvery() time.Duration { return time.Duration(l.followEvery.Load()) }

// Closed reports whether the ledger was closed.
func (l *Ledger) Closed() bool {
	select {
	case <-l.closed:
		return true
	default:
		return false
	}
}

// follow reads what others wrote without preventing them from writing. io must be held.
func (l *Ledger) follow(wait time.Duration) error {
	defer l.log.Release()
	return l.readNew(false, wait)
}

// catchUp reads what others wrote before a write. io must be held, and Release called afterwards.
func (l *Ledger) catchUp(wait time.Duration) error {
	err := l.readNew(true, wait)
	if IsNotExist(err) {
		// Somebody removed the file under a running program. Everything is still in memory, and
		// mend writes it again.
		l.broken = err
		l.problem(fmt.Errorf("%s was removed while it was open, and is written again", l.Path()))
		return nil
	}
	return err
}

// readNew makes unread lines visible. With alone, others can't write, so damage can be repaired.
func (l *Ledger) readNew(alone bool, wait time.Duration) error {
	im := newImage(false)
	im.marked = l.opts.Marks > 0
	if l.rewriting != nil {
		im.beside = &written{}
	}
	head, err := l.log.After(l.head, im, wait)
	switch {
	case errors.Is(err, ErrReload), isDamage(err):
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

// reload reads the whole log. io, or the latch of Open, must be held, and Release called
// afterwards. With Options.Salvage, damage is salvaged by a writer that is alone, or by a reader.
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
		return l.reload(true, wait) // another process may have done it meanwhile
	case err != nil:
		return err
	}
	l.schemaInFile = im.schema >= 0
	if im.schema < 0 {
		im.schema = head.Header.Schema
	}
	im.version = head.Version
	l.head, l.compactAt = head, notBefore(head.Size)
	l.adopt(im, true)
	return nil
}

// adopt makes an image visible: the whole state, or changes. io must be held.
func (l *Ledger) adopt(im *image, whole bool) {
	header := (*journal.Header)(nil)
	if whole {
		header, l.duty = l.head.Header, im.duty
	} else {
		l.duty.join(im.duty)
	}
	l.state.adopt(im, header, l.opts.Now())
}

// write appends a batch. If it returns ErrBehind it must be called again. io must be held, and
// Release called afterwards.
func (l *Ledger) write(b Batch) (err error) {
	if l.head, err = l.log.Append(l.head, b); err == nil {
		if l.rewriting != nil {
			l.rewriting.since.add(b.Lines, b.Count)
		}
		return nil
	}
	if disk := (*DiskError)(nil); errors.As(err, &disk) {
		return l.recoverDisk(disk, b.Count > 0)
	}
	return err
}

// recoverDisk replaces the log by the last good state in memory after the disk has failed. Until that
// succeeds nothing can be written. lost means that a batch is lost.
func (l *Ledger) recoverDisk(cause error, lost bool) error {
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
	if l.Closed() {
		return ErrClosed
	}
	if l.opts.ReadOnly || l.head.Synced == l.head.Version && l.broken == nil {
		return nil
	}
	defer l.log.Release()
	return notStored(l.retryBehind(func() error {
		if err := l.mend(); err != nil {
			return err
		}
		return l.write(Batch{Sync: true, Wait: l.opts.Wait})
	}))
}

// flushWithin schedules the sync of a group of prompt commits. io must be held.
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
			l.problem(fmt.Errorf("%s: changes of the last %v are not synced: %w", l.Path(), within, err))
		}
	})
}

// notStored wraps an error in ErrNotStored if the machine refused before anything was written. More
// specific errors stay.
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

// mend rewrites a log whose disk failed from memory, before anything else is appended. io must be
// held, and Release called afterwards.
func (l *Ledger) mend() error {
	if l.broken == nil {
		return nil
	}
	if err := l.rewrite(false); err != nil {
		return fmt.Errorf("%w: the disk failed before (%w), and the file can't be rewritten: %w", ErrNotStored, l.broken, err)
	}
	l.broken = nil
	return nil
}

// rewrite replaces the log by the present state, without the past. With forget, removed names are
// erased too. io must be held, and Release called afterwards.
func (l *Ledger) rewrite(forget bool) error {
	version := l.Version()
	s := &Snapshot{in: &l.state, Version: version} // nothing changes while io is held
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
	state.kept, header.Receipts = l.keptReceipts(0, version, forget, l.opts.Now())
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

// identify applies the id of a replaced log. With another id all marks lose their meaning, and all
// watchers are woken. mu must be held.
func (l *Ledger) identify(id string) {
	if l.marks.id != id {
		l.marks.id, l.marks.all = id, l.marks.all[:0]
		l.marks.add(markedCommit{l.head.Version, l.head.End})
		l.wakeAll()
	}
}

// IsNotExist reports whether err means that there is no such ledger.
func IsNotExist(err error) bool { return errors.Is(err, fs.ErrNotExist) }
