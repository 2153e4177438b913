package ledger

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Options configure a ledger.
type Options struct {
	ReadOnly bool
	Disk     journal.Disk     // nil means the machine's
	Now      func() time.Time // nil means time.Now
	Wait     time.Duration    // how long to wait for the lock; 0 means 5 s
	// Follow is how often the file is checked for changes by other processes while somebody
	// watches. 0 means never, for a file that no other process uses.
	Follow time.Duration
	// Problem receives errors that were survived, while the ledger is open. It must not call the
	// ledger. For a second Open of the file, use a Listener.
	Problem  func(error)
	Listener *Listener
	// Schema is the schema number of a new file.
	Schema int64
	// Salvage continues with the intact part of a damaged file: a writer keeps a copy and rewrites
	// the file, a reader shows it. Without it, a damaged file is an error.
	Salvage bool
	// Small is the size in bytes from which a file is compacted. Kept is how many commits a
	// compaction keeps, and KeptBytes how many bytes of them at least. 0 means 256 KiB, 200, 256
	// KiB.
	Small     int64
	Kept      int
	KeptBytes int64
	// Marks is the number of newest commits whose marks are known; 0 means none.
	Marks int
	// Steady prevents the time of commits from going backwards, because the clocks of several
	// machines differ.
	Steady bool
	// Every compacts the log after so many commits, for tests.
	Every int64
	// Twice evaluates every commit once more than needed, for tests.
	Twice bool
}

// A Ledger is an open namespace or board. It is safe for concurrent use, also by several processes.
type Ledger struct {
	opts Options
	name string
	key  openKey
	own  *opened // its place in open

	state       // what callers see
	queue queue // of what they commit

	lmu         sync.Mutex // guards listeners
	listeners   []*Listener
	followEvery atomic.Int64 // a time.Duration; 0 means never

	io     sync.Mutex // held while the file is read or written; guards the following fields
	log    Log
	head   Head  // how far it was read
	broken error // why it can't be appended to; nil if it can
	// schemaInFile: a line of the file has the schema, so it survives the loss of the header
	schemaInFile bool
	duty         duty      // what commits still owe
	dutyAt       time.Time // no earlier try after a failure
	dutyFull     bool      // the failure was a full disk
	looked       time.Time
	flushing     *time.Timer // syncs prompt commits; nil if there are none
	scratch      batch
	at           struct { // the newest time written, as text, for the row "prompt Set" in docs/benchmarks.md
		ms   int64
		text string
	}
	compactAt int64      // the file size from which compaction is considered
	compacted int64      // the version of the last compaction, if Options.Every is set
	rewriting *rewriting // the compaction in progress, or nil

	closed chan struct{} // closed by Close

	attached struct {
		once sync.Once
		x    any
	}
}

// ErrClosed is returned for a closed ledger.
var ErrClosed = errors.New("closed")

// ErrReadOnly is returned for a commit to a ledger that was opened for reading.
var ErrReadOnly = errors.New("opened read-only")

// A Listener receives the problems of a ledger from its Open until Leave.
type Listener struct{ Problem func(error) }

// join adds a listener of a second Open, and its Follow.
func (l *Ledger) join(o Options) {
	l.lmu.Lock()
	defer l.lmu.Unlock()
	if o.Listener != nil {
		l.listeners = append(l.listeners, o.Listener)
	}
	if every := int64(o.Follow); every > 0 && (l.followEvery.Load() == 0 || every < l.followEvery.Load()) {
		l.followEvery.Store(every)
	}
}

// Leave removes a Listener.
func (l *Ledger) Leave(who *Listener) {
	l.lmu.Lock()
	defer l.lmu.Unlock()
	l.listeners = slices.DeleteFunc(l.listeners, func(one *Listener) bool { return one == who })
}

// problem reports an error to all listeners.
func (l *Ledger) problem(err error) {
	l.lmu.Lock()
	all := slices.Clone(l.listeners)
	l.lmu.Unlock()
	for _, one := range all {
		one.Problem(err)
	}
}

func newLedger(key openKey, name string, o Options) *Ledger {
	l := &Ledger{
		opts: o, name: name, key: key,
		state: newState(o.Marks), closed: make(chan struct{}), scratch: batch{closed: -1},
	}
	l.queue = queue{wait: o.Wait, commit: l.commitGroup, compact: l.compact}
	l.listeners = []*Listener{{Problem: o.Problem}}
	l.join(o)
	return l
}

// fill sets the defaults.
func (o *Options) fill() {
	if o.Disk == nil {
		o.Disk = journal.OS
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Wait == 0 {
		o.Wait = 5 * time.Second
	}
	if o.Small == 0 {
		o.Small = smallFile
	}
	if o.Kept == 0 {
		o.Kept = keptCommits
	}
	if o.KeptBytes == 0 {
		o.KeptBytes = keptBytes
	}
	if o.Problem == nil {
		o.Problem = func(error) {}
	}
}

// start reads the file, or creates it.
func (l *Ledger) start() error {
	if !l.opts.ReadOnly {
		if err := l.log.Hold(l.opts.Wait); err != nil {
			return err
		}
		defer l.log.Release()
	}
	err := l.reload(true, l.opts.Wait)
	if IsNotExist(err) && !l.opts.ReadOnly {
		l.schema = l.opts.Schema
		first := State{Header: journal.Header{Name: l.name, ID: newID(), Schema: l.opts.Schema}}
		l.head, err = l.log.Rewrite(l.head, first, l.opts.Wait)
		if errors.Is(err, ErrBehind) { // another process created it meanwhile
			err = l.reload(true, l.opts.Wait)
		} else {
			l.marks.reset(&first.Header, nil)
			l.life.Store(&first.Header)
		}
	}
	if err != nil {
		return err
	}
	if l.opts.ReadOnly && !l.duty.done() {
		l.problem(&DutyError{l.Path(), l.duty.String(), ErrReadOnly})
	}
	_ = l.retryBehind(func() error { return l.payDuty(true) }) // a failure is reported
	if name := l.head.Header.Name; name != l.name && name != "" {
		l.problem(refuse.As(value.ErrInvalid, "the file %s says that it is %s, not %s: was it copied or renamed?", l.Path(), scan.Quote(name), scan.Quote(l.name)))
	}
	return nil
}

// newID returns a random id that distinguishes a file from its replacements.
func newID() string {
	var b [16]byte
	binary.NativeEndian.PutUint64(b[:8], rand.Uint64())
	binary.NativeEndian.PutUint64(b[8:], rand.Uint64())
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// MayReplace returns an error if this user may not replace the file, as compaction, reset and
// repair do. The error wraps fs.ErrPermission.
func (l *Ledger) MayReplace() error { return l.log.MayRewrite() }

// Name returns the name of the namespace or board.
func (l *Ledger) Name() string { return l.name }

// Path returns the path of the data file.
func (l *Ledger) Path() string { return l.key.path }

// Attached returns the result of the first call of build. It lets a caller keep what it computed from
// the ledger as long as the ledger.
func (l *Ledger) Attached(build func() any) any {
	l.attached.once.Do(func() { l.attached.x = build() })
	return l.attached.x
}

// Locked calls f while no one else, in this process or another, can write. Errors are those of the
// lock, ErrClosed, and those of f.
func (l *Ledger) Locked(f func() error) error {
	l.io.Lock()
	defer l.io.Unlock()
	if l.Closed() {
		return ErrClosed
	}
	defer l.log.Release()
	if err := l.log.Hold(l.opts.Wait); err != nil {
		return err
	}
	return f()
}
