package ledger

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// A Log keeps the lines of a ledger, which judges, and holds what they add up
// to. It is used by one goroutine at a time, but for what Past gives. Others may
// write to the same lines through a Log of their own, in another process or on
// another machine: so each write says behind which Head it belongs, and is
// refused with ErrBehind where that is not the newest any more.
//
// A wait is how long a method may wait for others; the error is then
// journal.ErrBusy.
type Log interface {
	// Load gives all lines to c. The error is fs.ErrNotExist where there are none,
	// and a *journal.DamageError where some are gone.
	Load(c journal.Consumer, wait time.Duration) (Head, error)
	// After gives the lines behind head to c, and makes durable what it gives.
	// The error is ErrAnew where they can't be told, and all has to be loaded.
	After(head Head, c journal.Consumer, wait time.Duration) (Head, error)
	// Append writes a batch behind head. An empty batch confirms that head is the
	// newest, which a commit that changes nothing rests on. Of a batch that is to be
	// synced, all before it is synced too.
	//
	// Errors: ErrBehind, after which Append does not wait again until Release;
	// ErrNotStored; a *DiskError, after which only Rewrite can help. With any other
	// error nothing was written, nor is head known to be the newest.
	Append(head Head, b Batch) (Head, error)
	// Past gives what there is up to head, to be read while others write.
	Past(head Head) (Past, error)
	// Rewrite puts a state in place of all that is there behind head: to begin,
	// to take less room, to forget, or after the disk has failed. Errors are those
	// of Append.
	Rewrite(head Head, s State, wait time.Duration) (Head, error)
	// MayRewrite says whether this user may. The error wraps fs.ErrPermission.
	MayRewrite() error
	// Hold keeps others from writing until Release, which also ends what ErrBehind
	// began. Release may be called without it.
	Hold(wait time.Duration) error
	Release()
	Close() error
}

// A Fencer is a Log whose lines others write unseen, on other machines.
type Fencer interface {
	Log
	// Fence gives the newest version that anybody was told of before it was called. It
	// may be called by several goroutines, while the other methods are used.
	Fence(ctx context.Context) (version int64, err error)
}

// A Salvager is a Log whose lines can be damaged.
type Salvager interface {
	Log
	// Salvage gives every intact line of what Load found damaged to c, and tells
	// what is left of its header, and what is lost.
	Salvage(c journal.Consumer) (w Wreck, err error)
	// SetAside keeps what is damaged, and says where.
	SetAside(at time.Time) (path string, err error)
	// Pass goes on behind what is damaged, for a reader, who leaves it as it is.
	Pass(head Head) Head
}

// A Wreck is what is left of damaged lines.
type Wreck struct {
	Header journal.Header
	Lost   []journal.Loss
	Bytes  int // of all, with what is lost
}

// A Past is what a log told at one moment. It must be closed.
type Past interface {
	Header() *journal.Header // not to be changed
	Version() int64          // the newest
	// Read passes all lines to c, from the first.
	Read(c journal.Consumer) error
	// Back passes the lines to each, from the last, until it returns false. It costs what was read.
	Back(each func(line []byte) (more bool, err error)) error
	Close() error
}

// A Head is how far a Log is known.
type Head struct {
	Header  *journal.Header // what its lines begin with, not to be changed; nil in the zero Head
	Version int64           // of the newest commit
	End     journal.End     // of its line
	Synced  int64           // up to which version all is certainly durable
	Size    int64           // of all lines, in bytes
	Took    time.Duration   // how long the last sync took
}

// A Batch is the lines of commits that are to be written at once.
type Batch struct {
	Lines []byte
	Count int           // how many commits they are
	Sync  bool          // they are to be durable, and not only written
	Wait  time.Duration // how long to wait for others
}

// A State is what a Log is to begin with: Header.Lines hold the entries at
// Header.Base, and those behind them are commits.
type State struct {
	Header  journal.Header
	Lines   []byte
	Count   int         // how many lines
	Version int64       // of the last
	End     journal.End // of the newest commit, as it is told there
}

var (
	// ErrBehind is returned for a write where others have written since: what is
	// behind head must be taken in first.
	ErrBehind = errors.New("others have written meanwhile")
	// ErrAnew is returned where the lines behind a head can't be told.
	ErrAnew = errors.New("all has to be read anew")
	// ErrNotStored is returned for a commit that is certainly not on the disk.
	ErrNotStored = errors.New("not stored")
	// ErrUncertain is returned for a commit that failed and may yet be there
	// after a power cut.
	ErrUncertain = errors.New("not stored as far as this program knows, but it may appear after a power cut")
)

// A DiskError is returned by a Log for a write or a sync that failed so that
// nothing in it is certain any more: it must be written anew.
type DiskError struct{ Cause error }

func (e *DiskError) Error() string { return e.Cause.Error() }
func (e *DiskError) Unwrap() error { return e.Cause }

// mostBehind is how often a write that is behind is tried.
const mostBehind = 8

// insist calls write until it is behind nobody, and takes in what it was
// behind in between; io must be held, and Release called after it.
func (l *Ledger) insist(write func() error) error {
	for try := 1; ; try++ {
		err := write()
		if !errors.Is(err, ErrBehind) {
			return err
		}
		if try == mostBehind {
			return fmt.Errorf("%w: %w, %d times", journal.ErrBusy, err, try)
		}
		if err := l.catchUp(l.opts.Wait); err != nil {
			return err
		}
	}
}
