package ledger

import (
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// A fileLog is a Log in a journal file that several processes can have open. Its lock is held
// during a write, and from a write that was behind until the next one.
type fileLog struct {
	file     *journal.File
	readOnly bool
	problem  func(error)

	held bool // the exclusive lock is held: by Hold, or by a write that was behind or broke the file
	// current: since the lock was taken, everything in the file is known, so no one else can have
	// written
	current bool
	wreck   *journal.Reading // the damaged file that Load found
	damaged []byte           // its bytes, once read
	took    time.Duration    // see Head
	synced  int64            // the bytes of the file are synced up to this version
}

var _ Salvager = (*fileLog)(nil)

// A CutError reports that the end of a file was removed: part of a commit that was never
// acknowledged, from a process or a machine that stopped while writing.
type CutError struct {
	Path   string
	Tail   journal.Tail
	Copied string // where its whole lines were copied
}

func (e *CutError) Error() string {
	s := fmt.Sprintf("%s: removed %d bytes from line %d on, an incomplete write that was never acknowledged (%s)",
		e.Path, len(e.Tail.Bytes), e.Tail.Line, e.Tail.Reason)
	if e.Copied != "" {
		s += "; a copy is in " + e.Copied
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
		f.problem(fmt.Errorf("%s: release the lock: %w", f.file.Path(), err))
	}
}

// share takes the lock for reading if it is not held, and returns the function that releases it.
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
		// It is known to be missing or damaged, so it can be rewritten.
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

// After checks the path first, so that an unchanged file needs no lock.
func (f *fileLog) After(head Head, c journal.Consumer, wait time.Duration) (Head, error) {
	replaced, grown, err := f.file.Fresh()
	switch {
	case err != nil:
		return head, err
	case !f.isAt(head):
		return head, ErrReload
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

// after reads on. The position moves only when everything is read, repaired and synced, so a failed
// call can be repeated.
func (f *fileLog) after(head Head, c journal.Consumer) (Head, error) {
	replaced, grown, err := f.file.Fresh()
	switch {
	case err != nil:
		return head, err
	case replaced:
		return head, ErrReload
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

// settle repairs and syncs what was read, and adopts it.
func (f *fileLog) settle(r *journal.Reading) error {
	alone := f.held && !f.readOnly
	var failed error
	if r.Taken > 0 {
		// Its writer may have died before the sync. A reader may not be allowed to sync.
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

// cut removes a torn tail, or leaves it in a file that is about to be replaced. It first copies
// whole lines of the tail, which may be the only trace of somebody's work.
func (f *fileLog) cut(r *journal.Reading, off bool) error {
	e := &CutError{Path: f.file.Path(), Tail: *r.Tail}
	if e.Tail.Whole {
		path, err := f.file.CopyTail(&e.Tail, r.Version())
		if err != nil {
			return fmt.Errorf("copy the incomplete end of %s: %w", f.file.Path(), err)
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

// isAt reports whether the file is at head. It is not if it was replaced and reading the
// replacement failed. For a reader nothing fails then.
func (f *fileLog) isAt(head Head) bool {
	return f.readOnly || f.file.Newest() == head.End && f.file.Version() == head.Version
}

// newest takes the lock and checks that head is the end of the file. mine means that the caller
// must Release it.
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
	case replaced || grown || !f.isAt(head):
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
			// Once the truncation is synced, the lines can't come back.
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

// syncFailed handles a failed sync, which is never repeated: the kernel can have dropped the pages
// and report success. If the disk was only full, everything before is synced, and removing the
// lines is synced too, they are certainly gone. Otherwise nothing in the file is certain.
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

func (f *fileLog) CopyDamaged(at time.Time) (string, error) { return f.file.CopyDamaged(f.damaged, at) }

func (f *fileLog) Pass(head Head) Head {
	f.file.Adopt(f.wreck, true)
	head.Header, head.Size = f.file.Header(), f.file.End()
	return head
}

// passBy releases the damaged file.
func (f *fileLog) passBy() {
	f.wreck.Close() // does nothing after Pass
	f.wreck, f.damaged = nil, nil
}

func (f *fileLog) Close() error {
	f.passBy()
	return f.file.Close()
}
