package ledger

import (
	"errors"
	"fmt"
	"sync"

	"github.com/small-pantry/pantry/internal/journal"
)

type openKey struct {
	path     string
	readOnly bool
	disk     journal.Disk
}

// An opened is a ledger that is open, or being opened or closed. Other callers wait only for that
// one.
type opened struct {
	l      *Ledger
	err    error
	refs   int           // guarded by openMu
	ready  chan struct{} // closed when l and err are set
	closed chan struct{} // created when the last user has left, closed when the file is; guarded by openMu
}

var (
	openMu sync.Mutex // guards open; not held during file operations
	open   = map[openKey]*opened{}
)

// Open opens the ledger called name in dir. A writer creates what is missing; a reader gets
// fs.ErrNotExist. A second Open of the same file in one process returns the same ledger with the
// options of the first, except for the shortest Follow and the Listener. A reader can get a
// writer's ledger, so it must not commit.
func Open(dir, name string, o Options) (*Ledger, error) {
	o.fill()
	for {
		file, err := journal.Attach(o.Disk, dir, name, o.ReadOnly)
		if err != nil {
			return nil, err
		}
		key := openKey{file.Path(), o.ReadOnly, o.Disk}
		openMu.Lock()
		one := open[key]
		if writer := open[openKey{key.path, false, key.disk}]; one == nil && writer != nil {
			one = writer
		}
		switch {
		case one == nil:
			one = &opened{ready: make(chan struct{}), refs: 1}
			open[key] = one
			openMu.Unlock()
			return one.open(key, name, o, file)
		case one.closed != nil:
			openMu.Unlock()
			err = file.Close()
			<-one.closed
		default:
			one.refs++
			openMu.Unlock()
			err = file.Close()
			<-one.ready
			if one.err != nil {
				return nil, one.err
			}
			one.l.join(o)
			if err != nil {
				return nil, errors.Join(err, one.l.Close())
			}
			return one.l, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// OpenLog opens the ledger called name on a log, which it owns and closes. where names the log in
// errors. The errors are those of the log.
func OpenLog(name, where string, log Log, o Options) (*Ledger, error) {
	o.fill()
	l := newLedger(openKey{path: where}, name, o)
	l.log = log
	return l, l.start()
}

// Delete removes a ledger and its copies. The error is fs.ErrNotExist, or journal.ErrBusy if this
// process has it open. Another process that has it open creates it again with its next commit.
func Delete(dir, name string, o Options) error {
	o.fill()
	if _, err := o.Disk.Look(journal.DataPath(dir, name)); err != nil {
		return err
	}
	file, err := journal.Attach(o.Disk, dir, name, false)
	if err != nil {
		return err
	}
	key := openKey{file.Path(), false, o.Disk}
	openMu.Lock()
	if open[key] != nil || open[openKey{key.path, true, key.disk}] != nil {
		openMu.Unlock()
		return errors.Join(fmt.Errorf("%w: this program has %s open; close it first", journal.ErrBusy, file.Path()), file.Close())
	}
	one := &opened{closed: make(chan struct{})} // other callers of Open wait
	open[key] = one
	openMu.Unlock()
	defer func() {
		openMu.Lock()
		delete(open, key)
		openMu.Unlock()
		close(one.closed)
	}()
	if err = file.Lock(true, o.Wait); err == nil {
		err = errors.Join(file.Remove(), file.Unlock())
	}
	return errors.Join(err, file.Close())
}

// open opens the file for all who wait for it.
func (one *opened) open(key openKey, name string, o Options, file *journal.File) (*Ledger, error) {
	defer close(one.ready)
	one.err = ErrClosed // in case a callback ends this goroutine
	defer func() {
		if one.err != nil {
			openMu.Lock()
			delete(open, key)
			openMu.Unlock()
			one.err = errors.Join(one.err, file.Close())
		}
	}()
	one.l = newLedger(key, name, o)
	one.l.log = &fileLog{file: file, readOnly: o.ReadOnly, problem: one.l.problem}
	one.l.own = one
	if one.err = one.l.start(); one.err != nil {
		one.l = nil
	}
	return one.l, one.err
}

// Close releases the ledger. The last Close waits for commits, closes the file and ends all
// watching.
func (l *Ledger) Close() error {
	if l.own == nil { // it is not in open
		return l.end()
	}
	openMu.Lock()
	one := open[l.key]
	if one == nil || one != l.own { // closed more often than opened
		openMu.Unlock()
		return nil
	}
	if one.refs--; one.refs > 0 {
		openMu.Unlock()
		return nil
	}
	one.closed = make(chan struct{})
	openMu.Unlock()
	defer func() {
		openMu.Lock()
		delete(open, l.key)
		openMu.Unlock()
		close(one.closed)
	}()
	return l.end()
}

// end waits for commits, closes the log and ends all watching.
func (l *Ledger) end() error {
	l.queue.mu.Lock()
	before := l.queue.closing
	l.queue.closing = true
	l.queue.mu.Unlock()
	if before {
		return nil
	}
	l.queue.drain()
	flushed := l.Flush()
	l.io.Lock()
	defer l.io.Unlock()
	close(l.closed)
	return errors.Join(flushed, l.log.Close())
}
