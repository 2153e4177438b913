package ledger

import (
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// A fileLog is a Log in a journal file, which several processes may have open. Its
// lock is held while something is written, and from a write that was behind to the
// one after it.
type fileLog struct {
	file     *journal.File
	readOnly bool
	problem  func(error)

	held bool // the lock, alone; by Hold, or by a write that was behind or broke the file
	// current says that since held was set all in the file is known: nobody else
	// can have written.
	current bool
	wreck   *journal.Reading // what Load found damaged
	damaged []byte           // its bytes, once they were asked for
	took    time.Duration    // see Head
	synced  int64            // the bytes of the file are synced up to this version
}

var _ Salvager = (*fileLog)(nil)

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

func (f *fileLog) Hold(wait time.Duration) error {
	if f.held {
		return nil
	}
	err := f.file.Lock(true, wait)
	f.held = err == nil
	return err
}

func (f *fileLog) Release() {
	if !f.held {
		return
	}
	f.held, f.current = false, false
	if err := f.file.Unlock(); err != nil {
		f.problem(fmt.Errorf("%s: give the lock back: %w", f.file.Path(), err))
	}
}

// share takes the lock to read, where it is not held, and gives what ends that.
func (f *fileLog) share(wait time.Duration) (end func() error, err error) {
	if f.held {
		return func() error { return nil }, nil
	}
	return f.file.Unlock, f.file.RLock(wait)
}

// head returns the position in the file. It is the only place that decides what is durable: bytes
// are, once they and the file's directory entry are synced.
func (f *fileLog) head() Head {
	h := Head{Header: f.file.Header(), Version: f.file.Version(), End: f.file.Newest(), Size: f.file.End(), Took: f.took}
	if f.readOnly || f.file.Durable() {
		h.Synced = f.synced
	}
	return h
}

// report passes on the problems of the file.
func (f *fileLog) report() {
	for _, err := range f.file.Problems() {
		f.problem(err)
	}
}

func (f *fileLog) Load(c journal.Consumer, wait time.Duration) (Head, error) {
	f.passBy()
	end, err := f.share(wait)
	if err != nil {
		return Head{}, err
	}
	head, err := f.load(c)
	return head, errors.Join(err, end())
}

func (f *fileLog) load(c journal.Consumer) (Head, error) {
	r, err := f.file.Load(c)
	if err != nil {
		// Where it is gone or damaged, that is known, and it can be written anew.
		f.wreck, f.current = r, f.held && (r != nil || IsNotExist(err))
		return Head{}, err
	}
	if err := f.settle(r); err != nil {
		r.Close()
		return Head{}, err
	}
	f.synced = f.file.Version()
	return f.head(), nil
}

// After looks at the path first, so that a quiet file costs no lock.
func (f *fileLog) After(head Head, c journal.Consumer, wait time.Duration) (Head, error) {
	replaced, grown, err := f.file.Fresh()
	switch {
	case err != nil:
		return head, err
	case !f.standsAt(head):
		return head, ErrAnew
	case !replaced && !grown:
		f.current = f.held
		return head, nil
	}
	end, err := f.share(wait)
	if err != nil {
		return head, err
	}
	head, err = f.after(head, c)
	return head, errors.Join(err, end())
}

// after reads on. Until all of it is read, mended and synced, nothing has moved:
// who fails here finds the same again.
func (f *fileLog) after(head Head, c journal.Consumer) (Head, error) {
	replaced, grown, err := f.file.Fresh()
	switch {
	case err != nil:
		return head, err
	case replaced:
		return head, ErrAnew
	case !grown:
		return head, nil
	}
	r, err := f.file.ReadOn(c)
	if err != nil {
		return head, err
	}
	if err := f.settle(r); err != nil {
		return head, err
	}
	return f.head(), nil
}

// settle mends and syncs what was read, and has the file stand there.
func (f *fileLog) settle(r *journal.Reading) error {
	alone := f.held && !f.readOnly
	var failed error
	if r.Taken > 0 {
		// Its writer may have died between the write and the sync. A reader may not
		// be allowed to.
		if failed = f.file.SyncRead(r); failed != nil && !f.readOnly {
			failed = fmt.Errorf("sync what another process wrote: %w", failed)
			if !alone {
				return failed
			}
		}
	}
	if r.Tail != nil && alone {
		if err := f.cut(r, failed == nil); err != nil {
			return err
		}
	}
	if failed != nil && alone {
		if err := f.file.WriteAgain(r); err != nil {
			return errors.Join(failed, err)
		}
		f.problem(fmt.Errorf("%s: the disk failed, so the file was written again: %w", f.file.Path(), failed))
		r.Close()
	} else {
		f.file.Adopt(r, false)
	}
	if r.Taken > 0 {
		f.synced = f.file.Version()
	}
	if !f.readOnly {
		sync := f.file.TryEntry
		if alone {
			sync = f.file.SyncEntry
		}
		// Until this succeeds nothing is acknowledged; the next write tries again.
		if err := sync(); err != nil {
			f.problem(fmt.Errorf("%s: %w", f.file.Path(), err))
		}
		f.report()
	}
	f.current = f.held
	return nil
}

// cut takes a torn tail off, or leaves it in a file that is to be replaced. Whole
// lines of it are copied aside first: they may be all that is left of somebody's
// work.
func (f *fileLog) cut(r *journal.Reading, off bool) error {
	e := &CutError{Path: f.file.Path(), Tail: *r.Tail}
	if e.Tail.Whole {
		path, err := f.file.CopyTail(&e.Tail, r.Version())
		if err != nil {
			return fmt.Errorf("copy the torn end of %s aside: %w", f.file.Path(), err)
		}
		e.Copied = path
	}
	if off {
		if err := r.Cut(); err != nil {
			return err
		}
	}
	f.problem(e)
	return nil
}

// standsAt says whether the file is known as far as head says: it is not where
// another was put in its place, and what is in that could not be taken in. Of
// what a reader takes in nothing fails then.
func (f *fileLog) standsAt(head Head) bool {
	return f.readOnly || f.file.Newest() == head.End && f.file.Version() == head.Version
}

// newest takes the lock, and makes sure that head is all that is in the file. mine
// says that whoever calls has to Release it, unless it is kept for the next try.
func (f *fileLog) newest(head Head, certain bool, wait time.Duration) (mine bool, err error) {
	if f.current {
		return false, nil
	}
	if mine = !f.held; mine {
		if err := f.file.Lock(certain, wait); err != nil {
			return false, err
		}
		f.held = true
	}
	replaced, grown, err := f.file.Fresh()
	switch {
	case err != nil:
	case replaced || grown || !f.standsAt(head):
		return false, ErrBehind
	default:
		f.current = true
		return mine, nil
	}
	if mine {
		f.Release()
	}
	return false, err
}

func (f *fileLog) Append(head Head, b Batch) (Head, error) {
	mine, err := f.newest(head, b.Sync, b.Wait)
	if err != nil {
		return head, err
	}
	head, err = f.append(head, b)
	if mine && (err == nil || !errors.As(err, new(*DiskError))) {
		f.Release()
	}
	return head, err
}

func (f *fileLog) append(head Head, b Batch) (Head, error) {
	if b.Sync {
		if err := f.syncEntry(); err != nil {
			return f.head(), err
		}
	}
	if len(b.Lines) > 0 {
		if err := f.file.Append(b.Lines); err != nil {
			// With the cut synced, nothing of the lines can come back.
			if cut := f.file.CutTail(); cut != nil {
				return head, &DiskError{errors.Join(err, cut)}
			}
			f.synced = head.Version
			return f.head(), fmt.Errorf("%w: %w", ErrNotStored, err)
		}
	}
	if b.Sync && (b.Count > 0 || f.synced < head.Version) {
		start := time.Now()
		err := f.file.Sync()
		f.took = time.Since(start)
		if err != nil {
			return head, f.syncFailed(head, err)
		}
		f.synced = head.Version + int64(b.Count)
	}
	if b.Count > 0 {
		f.file.Advance(b.Lines, b.Count, head.Version+int64(b.Count))
	}
	return f.head(), nil
}

// syncEntry makes the file's directory entry durable before something is acknowledged.
func (f *fileLog) syncEntry() error {
	if f.file.Durable() {
		return nil
	}
	header := f.file.Header()
	err := f.file.SyncEntry()
	if f.file.Header() != header { // written again, and synced
		f.synced = f.file.Version()
	}
	f.report()
	if err != nil {
		return fmt.Errorf("%w: the entry of %s in its directory is not durable: %w", ErrNotStored, f.file.Path(), err)
	}
	return nil
}

// syncFailed: a failed sync is never tried again, since the kernel may have
// dropped the pages and would say success. Where the disk was only full, all
// before is synced, and cutting the lines off again is synced too, they are
// certainly gone. Otherwise nothing in the file is certain.
func (f *fileLog) syncFailed(head Head, cause error) error {
	cut := f.file.CutTail()
	if cut == nil && journal.IsFull(cause) && f.synced == head.Version {
		return fmt.Errorf("%w: %w", ErrNotStored, cause)
	}
	return &DiskError{errors.Join(cause, cut)}
}

func (f *fileLog) Past(Head) (Past, error) { return f.file.View() }

func (f *fileLog) Rewrite(head Head, s State, wait time.Duration) (Head, error) {
	mine, err := f.newest(head, true, wait)
	if err != nil {
		return head, err
	}
	header := f.file.Header()
	err = f.file.Rewrite(s.Header, s.Lines, s.Count, s.Version, s.End)
	if f.file.Header() != header { // replaced, even if the directory could not be synced
		f.synced = s.Version
	}
	head = f.head()
	f.report()
	if mine {
		f.Release()
	}
	return head, err
}

func (f *fileLog) MayRewrite() error { return f.file.MayReplace() }

// Copies returns the paths of the copies beside the file.
func (f *fileLog) Copies() ([]string, error) { return f.file.Copies() }

// RemoveCopies removes them.
func (f *fileLog) RemoveCopies() ([]string, error) { return f.file.RemoveCopies() }

// Free returns the free space of the disk.
func (f *fileLog) Free() (bytes int64, known bool) { return f.file.Free() }

func (f *fileLog) Salvage(c journal.Consumer) (w Wreck, err error) {
	if f.damaged, err = f.wreck.Bytes(); err != nil {
		return w, err
	}
	w.Bytes = len(f.damaged)
	w.Header, w.Lost = journal.Salvage(f.damaged, c)
	return w, nil
}

func (f *fileLog) SetAside(at time.Time) (string, error) { return f.file.CopyDamaged(f.damaged, at) }

func (f *fileLog) Pass(head Head) Head {
	f.file.Adopt(f.wreck, true)
	head.Header, head.Size = f.file.Header(), f.file.End()
	return head
}

// passBy lets go of what was damaged.
func (f *fileLog) passBy() {
	f.wreck.Close() // which does nothing where it was passed
	f.wreck, f.damaged = nil, nil
}

func (f *fileLog) Close() error {
	f.passBy()
	return f.file.Close()
}
