package ledger

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
)

// A Log stores the lines of a ledger. One goroutine at a time uses it, except for what Past
// returns. Others can write to the same lines through their own Log, in another process or on
// another machine. So each write names the Head that it follows, and gets ErrBehind if that is no
// longer the newest.
//
// A wait is how long a method may wait for others; then the error is journal.ErrBusy.
type Log interface {
	// Load passes all lines to c. The error is fs.ErrNotExist if there are none, and a
	// *journal.DamageError if some are lost.
	Load(c journal.Consumer, wait time.Duration) (Head, error)
	// After passes the lines after head to c, and makes them durable. The error is ErrAnew if
	// everything must be loaded again.
	After(head Head, c journal.Consumer, wait time.Duration) (Head, error)
	// Append writes a batch after head. An empty batch confirms that head is the newest. A commit
	// that changes nothing relies on that. If the batch is to be synced, everything before it is
	// synced too.
	//
	// Errors: ErrBehind, after which Append does not wait again until Release; ErrNotStored; a
	// *DiskError, after which only Rewrite can help. After any other error nothing was written, and
	// head is not known to be the newest.
	Append(head Head, b Batch) (Head, error)
	// Past returns the lines up to head, to read while others write.
	Past(head Head) (Past, error)
	// Rewrite replaces everything up to head by a state: to create the log, shrink it, erase
	// something, or recover from a failed disk. Errors are those of Append.
	Rewrite(head Head, s State, wait time.Duration) (Head, error)
	// MayRewrite returns an error if this user may not rewrite. It wraps fs.ErrPermission.
	MayRewrite() error
	// Hold prevents others from writing until Release, which also ends what ErrBehind started.
	// Release may be called without Hold.
	Hold(wait time.Duration) error
	Release()
	Close() error
}

// A Fencer is a Log that others write to on other machines, without notice.
type Fencer interface {
	Log
	// Fence returns the newest version that was acknowledged before the call. It is safe for
	// concurrent use, also with the other methods.
	Fence(ctx context.Context) (version int64, err error)
}

// A Salvager is a Log that can be damaged.
type Salvager interface {
	Log
	// Salvage passes every intact line of the damaged log that Load found to c, and returns what is
	// left of its header and what is lost.
	Salvage(c journal.Consumer) (w Wreck, err error)
	// CopyDamaged copies the damaged log and returns the path.
	CopyDamaged(at time.Time) (path string, err error)
	// Pass moves a reader to the end of the damaged log, which it leaves unchanged.
	Pass(head Head) Head
}

// A Wreck is what is left of a damaged log.
type Wreck struct {
	Header journal.Header
	Lost   []journal.Loss
	Bytes  int // of everything, including what is lost
}

// A Past is a log at one moment. It must be closed.
type Past interface {
	Header() *journal.Header // must not be changed
	Version() int64          // the newest
	// Read passes all lines to c, from the first.
	Read(c journal.Consumer) error
	// Back passes the lines to each, from the last, until it returns false. It costs what was read.
	Back(each func(line []byte) (more bool, err error)) error
	Close() error
}

// A Head is a position in a Log.
type Head struct {
	Header  *journal.Header // the header; must not be changed; nil in the zero Head
	Version int64           // of the newest commit
	End     journal.End     // of its line
	Synced  int64           // everything up to this version is durable
	Size    int64           // of all lines in bytes
	Took    time.Duration   // the duration of the last sync
}

// A Batch holds lines to write at once.
type Batch struct {
	Lines []byte
	Count int           // the number of commits
	Sync  bool          // make them durable before returning
	Wait  time.Duration // how long to wait for others
}

// A State is the initial content of a Log: Header.Lines lines with the entries at Header.Base,
// followed by commits.
type State struct {
	Header  journal.Header
	Lines   []byte
	Count   int         // the number of lines
	Version int64       // of the last line
	End     journal.End // of the newest commit
}

var (
	// ErrBehind is returned for a write if others have written since. The caller must read what
	// follows head first.
	ErrBehind = errors.New("others have written meanwhile")
	// ErrReload is returned if the lines after a head can't be returned.
	ErrReload = errors.New("everything must be read again")
	// ErrNotStored is returned for a commit that is certainly not stored.
	ErrNotStored = errors.New("not stored")
	// ErrUncertain is returned for a commit that failed but can appear after a power cut.
	ErrUncertain = errors.New("not stored as far as this program knows, but it may appear after a power cut")
)

// A DiskError is returned by a Log if a write or a sync failed so that nothing in the log is
// certain any more: it must be rewritten.
type DiskError struct{ Cause error }

func (e *DiskError) Error() string { return e.Cause.Error() }
func (e *DiskError) Unwrap() error { return e.Cause }

// mostBehind is how often a write that is behind is tried.
const mostBehind = 8

// retryBehind calls write, and reads what others have written in between, until it does not return
// ErrBehind. io must be held, and Release called afterwards.
func (l *Ledger) retryBehind(write func() error) error {
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
