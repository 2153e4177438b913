package ledger

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/value"
)

var (
	// ErrNotStored is returned for a commit that is certainly not on the disk.
	ErrNotStored = errors.New("not stored")
	// ErrUncertain is returned for a commit that failed and may yet be there
	// after a power cut.
	ErrUncertain = errors.New("not stored as far as this program knows, but it may appear after a power cut")
)

// A CutError is reported when the end of a file was cut: half a commit that
// nobody was told of, from a process or a machine that stopped while writing.
type CutError struct {
	Path   string
	Tail   journal.Tail
	Copied string // where whole lines of it were copied to
}

func (e *CutError) Error() string {
	s := fmt.Sprintf("%s: cut %d bytes from line %d on, behind which nothing says that they were ever synced (%s)",
		e.Path, len(e.Tail.Bytes), e.Tail.Line, e.Tail.Reason)
	if e.Copied != "" {
		s += "; there are whole lines in them, so a copy is in " + e.Copied
	}
	return s
}

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

func (l *Ledger) followsEvery() time.Duration { return time.Duration(l.followEvery.Load()) }

func (l *Ledger) isClosed() bool {
	select {
	case <-l.closed:
		return true
	default:
		return false
	}
}

// errWriter says that what was found needs a writer, who holds the lock alone.
var errWriter = errors.New("a writer must mend the file")

// follow catches up without the right to write; io must be held. The look at
// the path comes first, so that a quiet file costs no lock.
func (l *Ledger) follow(wait time.Duration) error {
	replaced, grown, err := l.file.Fresh()
	if err != nil || !replaced && !grown {
		return err
	}
	if err := l.file.RLock(wait); err != nil {
		return err
	}
	err = l.readOn(false)
	if err := errors.Join(err, l.file.Unlock()); !errors.Is(err, errWriter) {
		return err
	}
	if err := l.file.Lock(true, wait); err != nil {
		return err
	}
	defer l.file.Unlock()
	return l.catchUp()
}

// catchUp reads what others appended and cuts a torn tail; io and the file's
// lock must be held.
func (l *Ledger) catchUp() error {
	err := l.readOn(true)
	if IsNotExist(err) {
		// Somebody took the file away under a running program, which still
		// has all of it: mend writes it again.
		l.broken = err
		l.problem(fmt.Errorf("%s was removed while it was open, and is written again", l.file.Path()))
		return nil
	}
	return err
}

// readOn makes visible what is in the file and not yet known. Until all of it
// is read, mended and synced, nothing has moved: who fails here finds the same
// again. With alone the lock is held alone, and so the file may be mended.
func (l *Ledger) readOn(alone bool) error {
	replaced, grown, err := l.file.Fresh()
	switch {
	case err != nil:
		return err
	case replaced:
		return l.reload(alone)
	case !grown:
		return nil
	}
	im := newImage(false)
	r, err := l.file.ReadOn(im)
	if err != nil {
		return l.damaged(r, err, alone)
	}
	if r.Taken > 0 {
		if err := l.syncRead(r); err != nil {
			return err
		}
	}
	if r.Tail != nil && alone {
		if err := l.cut(r); err != nil {
			return err
		}
	}
	l.file.Adopt(r, false)
	if r.Taken > 0 {
		l.syncedTo = im.version
		l.adopt(im, false)
	}
	return nil
}

// syncRead syncs what others wrote: its writer may have died between the write
// and the sync. A reader may not be allowed to.
func (l *Ledger) syncRead(r *journal.Reading) error {
	if err := r.Sync(); err != nil && !l.opts.ReadOnly {
		return fmt.Errorf("sync what another process wrote: %w", err)
	}
	return nil
}

// reload reads the whole file; io, or the latch of Open, must be held.
func (l *Ledger) reload(alone bool) error {
	im := newImage(true)
	r, err := l.file.Load(im)
	if err != nil {
		return l.damaged(r, err, alone)
	}
	if r.Tail != nil && alone && !l.opts.ReadOnly {
		if err := l.cut(r); err != nil {
			r.Close()
			return err
		}
	}
	if err := l.syncRead(r); err != nil {
		r.Close()
		return err
	}
	header := r.Header()
	l.schemaTold = im.schema >= 0
	if im.schema < 0 {
		im.schema = header.Schema
	}
	im.version = max(im.version, header.Base)
	l.file.Adopt(r, false)
	l.syncedTo, l.compactAt = im.version, 0
	l.adopt(im, true)
	return nil
}

// damaged salvages what was read of a damaged file, where that is wanted;
// otherwise it gives the error.
func (l *Ledger) damaged(r *journal.Reading, err error, alone bool) error {
	switch {
	case !isDamage(err):
		return err
	case !l.opts.Salvage:
	case l.opts.ReadOnly || alone:
		err = l.salvage(r, err)
	default:
		err = errWriter
	}
	r.Close() // which does nothing where it was adopted
	return err
}

// cut takes a torn tail off. Whole lines of it are copied aside first: they
// may be all that is left of somebody's work.
func (l *Ledger) cut(r *journal.Reading) error {
	e := &CutError{Path: l.file.Path(), Tail: *r.Tail}
	if e.Tail.Whole {
		path, err := l.file.CopyTail(&e.Tail, r.Version())
		if err != nil {
			return fmt.Errorf("copy the torn end of %s aside: %w", l.file.Path(), err)
		}
		e.Copied = path
	}
	if err := r.Cut(); err != nil {
		return err
	}
	l.problem(e)
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
		clear(l.keys)
		l.oldest = l.file.Header().Oldest
	}
	l.adoptKeys(im.keys)
	if im.schema >= 0 {
		l.schema = im.schema
	}
	l.version.Store(im.version)
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

// store writes lines, which hold n commits, and with sync makes them durable; io
// and the file's lock must be held.
func (l *Ledger) store(lines []byte, n int, sync bool) error {
	if err := l.file.Append(lines); err != nil {
		// With the cut synced, nothing of the lines can come back.
		if cut := l.file.CutTail(); cut != nil {
			return l.startAnew(errors.Join(err, cut))
		}
		l.syncedTo = l.Version()
		return fmt.Errorf("%w: %w", ErrNotStored, err)
	}
	if sync {
		if err := l.timedSync(); err != nil {
			return l.syncFailed(err)
		}
		l.syncedTo = l.Version() + int64(n)
	}
	l.file.Advance(lines, n, l.Version()+int64(n))
	return nil
}

func (l *Ledger) timedSync() error {
	start := time.Now()
	err := l.file.Sync()
	l.lastSync = time.Since(start)
	return err
}

// syncFailed: a failed sync is never tried again, since the kernel may have
// dropped the pages and would say success. Where the disk was only full, all
// before is synced, and cutting the lines off again is synced too, they are
// certainly gone. Otherwise nothing in the file is certain.
func (l *Ledger) syncFailed(cause error) error {
	cut := l.file.CutTail()
	if cut == nil && journal.IsFull(cause) && l.syncedTo == l.Version() {
		return fmt.Errorf("%w: %w", ErrNotStored, cause)
	}
	return l.startAnew(errors.Join(cause, cut))
}

// startAnew writes the last good state from memory to a new file, after the
// disk has failed. Until that succeeds nothing can be written.
func (l *Ledger) startAnew(cause error) error {
	l.problem(fmt.Errorf("%s: the disk failed: %w", l.file.Path(), cause))
	if err := l.rewrite(false); err != nil {
		l.broken = errors.Join(cause, err)
		return fmt.Errorf("%w: %w", ErrUncertain, l.broken)
	}
	return fmt.Errorf("%w: %w", ErrNotStored, cause)
}

// syncNow makes what is visible durable; io and the file's lock must be held.
func (l *Ledger) syncNow() error {
	version := l.Version()
	if l.syncedTo == version {
		return nil
	}
	if err := l.timedSync(); err != nil {
		// It is visible, so it must not be cut off: only a new file will do.
		l.problem(fmt.Errorf("%s: the disk failed: %w", l.file.Path(), err))
		if anew := l.rewrite(false); anew != nil {
			l.broken = errors.Join(err, anew)
			return fmt.Errorf("%w: %w", ErrUncertain, l.broken)
		}
	}
	l.syncedTo = version
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
	if l.opts.ReadOnly || l.syncedTo == l.Version() && l.broken == nil {
		return nil
	}
	if err := l.file.Lock(true, l.opts.Wait); err != nil {
		return notStored(err)
	}
	defer l.file.Unlock()
	if err := l.catchUp(); err != nil {
		return notStored(err)
	}
	if err := l.mend(); err != nil {
		return err
	}
	return l.syncNow()
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
			l.problem(fmt.Errorf("%s: what was written in the last %v is not synced: %w", l.file.Path(), within, err))
		}
	})
}

// notStored makes whatever the machine refused before anything was written an
// ErrNotStored; what says more stays as it is.
func notStored(err error) error {
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
// is appended; io and the file's lock must be held.
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

// rewrite puts a file of the present state in place of the old one; io and
// the file's lock must be held. With forget, removed names are forgotten too,
// and a reader that is behind has to read all anew.
func (l *Ledger) rewrite(forget bool) error {
	version := l.Version()
	s := &Snapshot{l: l, Version: version} // nothing can change while io is held
	var recs []Named
	for e := range s.all("", "") {
		if e.Found() || !forget {
			recs = append(recs, e)
		}
	}
	header := l.file.Header()
	header.Base, header.End, header.Schema = version, l.file.Newest(), l.Schema()
	if forget {
		header.Oldest = version
	}
	lines, n := stateLines(recs, l.Keys(), header.Schema, version)
	header.Lines = int64(n)
	if err := l.file.Rewrite(header, lines, n, version); err != nil {
		return err
	}
	l.syncedTo, l.compactAt = version, 0
	l.mu.Lock()
	l.oldest = header.Oldest
	l.mu.Unlock()
	return nil
}

// IsNotExist says whether err means that there is no such ledger.
func IsNotExist(err error) bool { return errors.Is(err, fs.ErrNotExist) }
