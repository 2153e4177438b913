package ledger

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
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
	looked     time.Time
	flushing   *time.Timer // that syncs prompt commits; nil: there are none
	lastGroup  int         // how many commits shared the last sync
	scratch    batch
	at         struct { // the newest time that was written, as text
		ms   int64
		text string
	}
	compactAt int64 // the size of the file from which on compaction is thought of

	mu        sync.RWMutex // guards what follows
	nodes     map[string]*Node
	sorted    []*Node // never changed, only replaced
	added     []*Node // not in sorted yet
	unordered bool    // none of nodes is in sorted or added yet
	keys      map[string]entry.Declared
	schema    int64
	oldest    int64   // from which version on changes can be told
	snaps     int     // how many snapshots are open
	chained   []*Node // whose records hold older ones for snapshots
	watchers  map[*Watcher]struct{}
	ring      ring
	live      int64 // about how many bytes the visible names and values have; -1: not counted yet

	version atomic.Int64 // of what is visible; stored under mu

	qmu     sync.Mutex // guards what follows
	queue   []*request
	spare   []*request // empty, for the next queue
	leading bool
	told    *request    // to lead next, and still in the queue
	watch   *time.Timer // that runs expire; nil: nobody waits
	closing bool

	closed chan struct{} // closed by Close
}

// ErrClosed is returned for a ledger that was closed.
var ErrClosed = errors.New("closed")

// ErrReadOnly is returned for a commit to a ledger that was opened to read.
var ErrReadOnly = errors.New("opened read-only")

type openKey struct {
	path     string
	readOnly bool
	disk     journal.Disk
}

// An opened is a ledger that is open, or is being opened or closed. Whoever
// comes meanwhile waits for that one alone.
type opened struct {
	l      *Ledger
	err    error
	refs   int           // guarded by openMu
	ready  chan struct{} // closed when l and err are set
	closed chan struct{} // made when the last has left, closed when the file is; guarded by openMu
}

var (
	openMu sync.Mutex // guards open; not held while a file is touched
	open   = map[openKey]*opened{}
)

// Open opens the ledger called name in dir. A writer makes what is missing; a
// reader gets fs.ErrNotExist instead. A second Open of the same file in one
// process gives the same ledger, whose options are those of the first, but for
// Follow, of which the shortest counts, and the Listener; a reader shares that of
// a writer, and so must refuse to commit by itself.
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

// Delete removes a ledger, with all that is kept beside its file. The error is
// fs.ErrNotExist where there is none, and journal.ErrBusy where this process has it
// open; another that has it open writes it again with its next commit.
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
	one := &opened{closed: make(chan struct{})} // whoever opens it meanwhile waits
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
	one.err = ErrClosed // unless a callback ends this goroutine
	defer func() {
		if one.err != nil {
			openMu.Lock()
			delete(open, key)
			openMu.Unlock()
			one.err = errors.Join(one.err, file.Close())
		}
	}()
	one.l = newLedger(key, name, o, file)
	one.l.own = one
	one.l.listeners = []*Listener{{Problem: o.Problem}}
	one.l.join(o)
	if one.err = one.l.start(); one.err != nil {
		one.l = nil
	}
	return one.l, one.err
}

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

func newLedger(key openKey, name string, o Options, file *journal.File) *Ledger {
	l := &Ledger{
		opts: o, name: name, key: key,
		nodes: map[string]*Node{}, keys: map[string]entry.Declared{}, live: -1,
		watchers: map[*Watcher]struct{}{}, closed: make(chan struct{}),
	}
	l.log = &fileLog{file: file, readOnly: o.ReadOnly, problem: l.problem}
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
	}
	if err != nil {
		return err
	}
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
	return slices.SortedFunc(maps.Values(l.keys), func(a, b entry.Declared) int { return strings.Compare(a.Name, b.Name) })
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

// liveSize is how many bytes the visible names and values have together, about.
// It is counted when it is first asked for, and kept up from then on.
func (l *Ledger) liveSize() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.live < 0 {
		l.live = 0
		for name, n := range l.nodes {
			l.live += sizeOf(name, n.Record().Value)
		}
	}
	return l.live
}

func sizeOf(name string, v value.Value) int64 {
	if v.IsZero() {
		return 0
	}
	return int64(len(name) + v.JSONLen())
}

// Forget writes the file anew, with another id, so that nothing stays in it of
// what names held before now, nor of those that were dropped; of all names where
// none is given, and then with no past at all.
func (l *Ledger) Forget(names ...string) error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	return l.Locked(func() error {
		err := l.catchUp(l.opts.Wait)
		if err == nil {
			err = l.mend()
		}
		if err != nil {
			return err
		}
		if len(names) == 0 {
			err = l.rewrite(true)
		} else {
			err = l.rewriteWithout(names)
		}
		if err != nil {
			return fmt.Errorf("it is done, but the file can't be written anew, and holds what was before: %w", err)
		}
		return nil
	})
}

func (l *Ledger) rewriteWithout(names []string) error {
	view, err := l.log.Past(l.head)
	if err != nil {
		return err
	}
	defer view.Close()
	p, err := readPast(view)
	if err != nil {
		return err
	}
	p.forget(names)
	p.weigh(l.opts.Now(), all)
	_, err = l.rewriteWith(p, cuts{}, view, l.forgotten(), l.opts.Wait)
	return err
}

// forgotten is the header of a file of which something is forgotten: by another
// id, since whoever knows the old one may know what was there.
func (l *Ledger) forgotten() journal.Header {
	header := *l.head.Header
	header.ID, header.Oldest = newID(), l.Version()
	return header
}

// Renew gives the file another id, after what it holds was replaced by what
// did not come from it. Errors are those of Commit.
func (l *Ledger) Renew() error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	return l.Locked(func() error {
		if err := l.catchUp(l.opts.Wait); err != nil {
			return err
		}
		if err := l.mend(); err != nil {
			return err
		}
		past, err := l.log.Past(l.head)
		if err != nil {
			return err
		}
		defer past.Close()
		s := State{Header: *l.head.Header, Version: l.head.Version}
		s.Header.ID = newID()
		if err := past.Read(&copier{state: &s}); err != nil {
			return err
		}
		l.head, err = l.log.Rewrite(l.head, s, l.opts.Wait)
		return err
	})
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

// Close gives the ledger back. The last to do so closes the file and ends all
// watching; commits that wait are done first.
func (l *Ledger) Close() error {
	openMu.Lock()
	one := open[l.key]
	if one == nil || one != l.own { // it was closed once more than opened
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
	l.qmu.Lock()
	l.closing = true
	l.qmu.Unlock()
	l.drain()
	flushed := l.Flush()
	l.io.Lock()
	defer l.io.Unlock()
	close(l.closed)
	return errors.Join(flushed, l.log.Close())
}
