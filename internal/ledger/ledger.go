package ledger

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Options are what a ledger needs besides its place.
type Options struct {
	ReadOnly bool
	Disk     journal.Disk     // nil: the machine's
	Now      func() time.Time // nil: time.Now
	Wait     time.Duration    // how long to wait for the lock; 0: 5 s
	// Follow is how often the file is looked at for changes by other
	// processes while somebody watches. 0: never, for a file nobody shares.
	Follow time.Duration
	// Problem is called with what was survived, as long as the ledger is open. It
	// must not call the ledger. That of a second Open of the file is not called: a
	// Listener is.
	Problem  func(error)
	Listener *Listener
	// Schema is the number of the schema that a new file begins with.
	Schema int64
	// Salvage goes on with what is intact in a damaged file: a writer keeps a
	// copy and writes the file anew, a reader shows it. Without it a damaged
	// file is an error.
	Salvage bool
	// Small is the size in bytes under which no file is compacted; Kept is how
	// many commits a compaction keeps, and KeptBytes how many bytes of these even
	// where the entries have fewer. 0: 1 MiB, 200, 256 KiB.
	Small     int64
	Kept      int
	KeptBytes int64
	// Marks is of how many commits, the newest, the marks are known; 0: none.
	Marks int
	// Steady has no commit tell an earlier time than the one before, whatever the clock
	// says: those of several machines differ.
	Steady bool
	// Every has the log written anew after so many commits, whatever it holds, for tests.
	Every int64
	// Twice has every commit judged once more than needed, for tests.
	Twice bool
}

// A Ledger is an open namespace or board. It is safe for concurrent use, and
// by several processes at once.
type Ledger struct {
	opts Options
	name string
	key  openKey
	own  *opened // by which it is found

	lmu         sync.Mutex // guards listeners
	listeners   []*Listener
	followEvery atomic.Int64 // a time.Duration; 0: never

	io     sync.Mutex // held while the file is read or written; guards what follows
	log    Log
	head   Head  // how far it is known
	broken error // why it can't be appended to; nil in good health
	// schemaTold says that a line of the file has the schema, which is then known
	// also when its header is lost.
	schemaTold bool
	duty       duty      // what commits still owe
	dutyAt     time.Time // no earlier try after a failure
	dutyFull   bool      // the failure was a full disk
	looked     time.Time
	flushing   *time.Timer   // that syncs prompt commits; nil: there are none
	lastGroup  int           // how many commits shared the last sync; of whoever leads, as is lastTook
	lastTook   time.Duration // how long that took
	scratch    batch
	at         struct { // the newest time that was written, as text
		ms   int64
		text string
	}
	compactAt int64      // the size of the file from which on compaction is thought of
	compacted int64      // the version at which it was done last, where Options.Every is set
	rewriting *rewriting // the compaction that is under way, if any

	mu        sync.RWMutex // guards what follows
	nodes     map[string]*Node
	sorted    []*Node // never changed, only replaced
	added     []*Node // not in sorted yet
	unordered bool    // none of nodes is in sorted or added yet
	keys      map[string]entry.Declared
	// keysClosed says that no name may be written that is not declared.
	keysClosed bool
	schema     int64
	oldest     int64   // from which version on changes can be told
	snaps      int     // how many snapshots are open
	chained    []*Node // whose records hold older ones for snapshots
	watchers   map[*Watcher]struct{}
	ring       ring
	marks      marks
	receipts   receipts
	live       int64 // about how many bytes the visible names and values have; -1: not counted yet
	found      int   // how many names hold something, where live is counted

	version atomic.Int64 // of what is visible; stored under mu
	newest  atomic.Int64 // the newest time of a commit, in milliseconds, where Options.Steady is set
	counted atomic.Bool  // live is kept up; stored under mu

	qmu     sync.Mutex // guards what follows
	queue   []*request
	spare   []*request // empty, for the next queue
	leading bool
	told    *request    // to lead next, and still in the queue
	watch   *time.Timer // that runs expire; nil: nobody waits
	closing bool
	// compacting says that somebody compacts the file, or is about to.
	compacting bool

	closed chan struct{} // closed by Close
}

// ErrClosed is returned for a ledger that was closed.
var ErrClosed = errors.New("closed")

// ErrReadOnly is returned for a commit to a ledger that was opened to read.
var ErrReadOnly = errors.New("opened read-only")

// A Listener hears of what a ledger survived from its Open on, until Leave.
type Listener struct{ Problem func(error) }

// join has one more who opened the file hear of problems, and followed often enough.
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

// Leave ends what a Listener hears.
func (l *Ledger) Leave(who *Listener) {
	l.lmu.Lock()
	defer l.lmu.Unlock()
	l.listeners = slices.DeleteFunc(l.listeners, func(one *Listener) bool { return one == who })
}

// problem tells all who listen.
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
		nodes: map[string]*Node{}, keys: map[string]entry.Declared{}, live: -1,
		watchers: map[*Watcher]struct{}{}, closed: make(chan struct{}), marks: marks{most: o.Marks}, scratch: batch{closed: -1},
	}
	l.listeners = []*Listener{{Problem: o.Problem}}
	l.join(o)
	return l
}

// fill sets what was left out.
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

// start reads the file, or makes it.
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
		if errors.Is(err, ErrBehind) { // another has made it meanwhile
			err = l.reload(true, l.opts.Wait)
		} else {
			l.marks.anew(&first.Header, nil)
		}
	}
	if err != nil {
		return err
	}
	_ = l.insist(func() error { return l.payDuty(true) }) // a failure is reported
	if name := l.head.Header.Name; name != l.name && name != "" {
		l.problem(refuse.As(value.ErrInvalid, "the file %s says that it is %s, not %s: was it copied or renamed?", l.Path(), scan.Quote(name), scan.Quote(l.name)))
	}
	return nil
}

// newID draws what tells a file from another that was made in its place.
func newID() string {
	var b [16]byte
	binary.NativeEndian.PutUint64(b[:8], rand.Uint64())
	binary.NativeEndian.PutUint64(b[8:], rand.Uint64())
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// MayReplace says whether this user may have the file written anew, which
// compacting, resetting and repairing need. The error wraps fs.ErrPermission.
func (l *Ledger) MayReplace() error { return l.log.MayRewrite() }

// Name is the name of the namespace or board.
func (l *Ledger) Name() string { return l.name }

// Path is where the data file lies.
func (l *Ledger) Path() string { return l.key.path }

// Version is how many commits there were, as far as they are visible.
func (l *Ledger) Version() int64 { return l.version.Load() }

// Keys gives the declared keys by the order of their names.
func (l *Ledger) Keys() []entry.Declared {
	l.mu.RLock()
	defer l.mu.RUnlock()
	keys := make([]entry.Declared, 0, len(l.keys))
	for _, name := range slices.Sorted(maps.Keys(l.keys)) { // sorting what is large would make every app larger
		keys = append(keys, l.keys[name])
	}
	return keys
}

// KeysClosed says whether the list of declared keys is closed.
func (l *Ledger) KeysClosed() bool {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.keysClosed
}

// adoptKeys makes declared keys known, or unknown; mu must be held.
func (l *Ledger) adoptKeys(keys []entry.Declared) {
	for _, k := range keys {
		if k.Gone {
			delete(l.keys, k.Name)
		} else {
			l.keys[k.Name] = k
		}
	}
}

// Count tells how many names hold something, and how many bytes these and their
// values have together, about. It is counted when it is first asked for, and kept up
// from then on.
func (l *Ledger) Count() (names int, bytes int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.live < 0 {
		l.live, l.found = 0, 0
		l.counted.Store(true)
		for name, n := range l.nodes {
			l.count(name, value.Value{}, n.Record().Value)
		}
	}
	return l.found, l.live
}

// count takes in that a name holds another value; mu must be held.
func (l *Ledger) count(name string, before, now value.Value) {
	l.live += sizeOf(name, now) - sizeOf(name, before)
	l.found += there(now) - there(before)
}

func sizeOf(name string, v value.Value) int64 {
	if v.IsZero() {
		return 0
	}
	return int64(len(name) + v.JSONLen())
}

// Locked runs f while no other process, and nobody else in this one, can write.
// Errors are those of the lock, ErrClosed, and those of f.
func (l *Ledger) Locked(f func() error) error {
	l.io.Lock()
	defer l.io.Unlock()
	if l.isClosed() {
		return ErrClosed
	}
	defer l.log.Release()
	if err := l.log.Hold(l.opts.Wait); err != nil {
		return err
	}
	return f()
}

// Schema is the number of the schema that the entries have.
func (l *Ledger) Schema() int64 {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.schema
}

// Oldest is the oldest version from which Snapshot.Changed tells all.
func (l *Ledger) Oldest() int64 {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.oldest
}

func byName(a, b *Node) int { return strings.Compare(a.Name, b.Name) }
