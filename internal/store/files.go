package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/seam"
)

// quiet is how long a board that nobody holds stays loaded.
const quiet = 10 * time.Minute

// knownMarks is of how many commits of a board the marks are known; lookEvery is how
// often a board's file is looked at while somebody watches: an operator may have put
// another in its place.
const (
	knownMarks = 10_000
	lookEvery  = 2 * time.Second
)

// FileOptions are what Files needs besides its directory.
type FileOptions struct {
	Idle    time.Duration                 // how long a board that nobody holds stays loaded; 0: 10 minutes
	Boards  int                           // how many there may be; 0: any number
	Problem func(board string, err error) // is called with what was survived
	Ledger  ledger.Options                // of each board, but for Problem
}

// Files keeps each board in a journal of its own, in DATA/boards.
type Files struct {
	data string
	dir  string // of the boards, in it
	opts FileOptions
	lock *flock.Flock // on DATA: a second server would not see this one's boards change

	tmu    sync.Mutex     // guards tokens
	tokens *ledger.Ledger // nil: nobody asked for them yet

	mu     sync.Mutex // guards what follows; not held while a file is touched
	boards map[string]*loaded
	closed bool
	news   chan struct{} // closed, and made anew, when a board is made
}

// A loaded board is open, or is being opened or closed: whoever comes
// meanwhile waits for that one alone.
type loaded struct {
	ready chan struct{} // closed when l and err are set
	l     *ledger.Ledger
	err   error
	users int           // who hold it, or wait for it; guarded by Files.mu
	idle  *time.Timer   // that unloads it; guarded by Files.mu
	gone  chan struct{} // made when it is to be closed, closed when it is; guarded by Files.mu
}

var _ Store = (*Files)(nil)

// OpenFiles opens a data directory, which is made where it is missing. The
// error is ErrInUse for one that another server has, or the file system's.
func OpenFiles(data string, o FileOptions) (*Files, error) {
	o.Idle = cmp.Or(o.Idle, quiet)
	dir := filepath.Join(data, "boards")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(data, "server.lock"), flock.SetPermissions(0o600))
	got, err := lock.TryLock()
	if err == nil && !got {
		err = fmt.Errorf("%s is %w", data, ErrInUse)
	}
	if err != nil {
		return nil, err
	}
	return &Files{data: data, dir: dir, opts: o, lock: lock, boards: map[string]*loaded{}, news: make(chan struct{})}, nil
}

// options are those of a ledger, which problems call by a name.
func (f *Files) options(name string) ledger.Options {
	special := seam.Of(f.dir)
	o := f.opts.Ledger
	o.Disk, o.Twice, o.Small = special.Disk, o.Twice || special.Twice, cmp.Or(o.Small, special.Small)
	o.Marks, o.Follow = cmp.Or(o.Marks, knownMarks), cmp.Or(o.Follow, lookEvery)
	o.Problem = func(err error) {
		if f.opts.Problem != nil {
			f.opts.Problem(name, err)
		}
	}
	return o
}

// Tokens gives the ledger of the tokens: see Store.
func (f *Files) Tokens(context.Context) (*ledger.Ledger, error) {
	f.tmu.Lock()
	defer f.tmu.Unlock()
	if f.tokens != nil {
		return f.tokens, nil
	}
	dir := filepath.Join(f.data, "access")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	l, err := ledger.Open(dir, "tokens", f.options("the tokens"))
	if err != nil {
		return nil, fmt.Errorf("open the tokens: %w", err)
	}
	f.tokens = l
	return l, nil
}

// Open is how many boards are in memory: see Store.
func (f *Files) Open() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.boards)
}

// Ready says whether the directory is there and nobody closed the store: see Store.
func (f *Files) Ready(context.Context) error {
	f.mu.Lock()
	closed := f.closed
	f.mu.Unlock()
	if closed {
		return ledger.ErrClosed
	}
	_, err := os.ReadDir(f.dir)
	return err
}

// Board gives a board: see Store. Its errors are *journal.NameError for a
// name that no board has, ErrNoBoard, ledger.ErrClosed after Close, that of ctx,
// and those of ledger.Open; of one that
// could not be made they wrap ledger.ErrNotStored.
func (f *Files) Board(ctx context.Context, name string, create bool) (*ledger.Ledger, func(), error) {
	if err := journal.CheckName(name); err != nil {
		return nil, nil, err
	}
	for {
		f.mu.Lock()
		b := f.boards[name]
		var wait <-chan struct{}
		switch {
		case f.closed:
			f.mu.Unlock()
			return nil, nil, ledger.ErrClosed
		case b == nil:
			b = &loaded{ready: make(chan struct{})}
			f.boards[name] = b
			b.users++
			f.mu.Unlock()
			f.load(b, name, create)
			wait = b.ready
		case b.gone != nil:
			wait, b = b.gone, nil
			f.mu.Unlock()
		default:
			b.users++
			f.mu.Unlock()
			wait = b.ready
		}
		select {
		case <-wait:
		case <-ctx.Done():
			if b != nil {
				f.release(name, b)
			}
			return nil, nil, ctx.Err()
		}
		switch {
		case b == nil: // it is closed now
		case b.err == nil:
			return b.l, func() { f.release(name, b) }, nil
		case errors.Is(b.err, ErrNoBoard) && create: // somebody else did not want to make it
		default:
			return nil, nil, b.err
		}
	}
}

// load opens a board for all who wait for it; one that can't be opened is
// forgotten, so that the next one who asks tries again.
func (f *Files) load(b *loaded, name string, create bool) {
	defer close(b.ready)
	disk := cmp.Or[journal.Disk](seam.Of(f.dir).Disk, journal.OS)
	_, err := disk.Look(journal.DataPath(f.dir, name))
	none := errors.Is(err, fs.ErrNotExist)
	switch {
	case none && !create:
		b.err = ErrNoBoard
	case none && f.full():
		b.err = refuse.As(rules.ErrQuota, "the server has %d boards, which is the most: delete one that nobody uses", f.opts.Boards)
	default:
		if b.l, b.err = ledger.Open(f.dir, name, f.options(name)); b.err != nil {
			if none && !errors.Is(b.err, journal.ErrBusy) { // it is not there now either
				b.err = fmt.Errorf("%w: %w", ledger.ErrNotStored, b.err)
			}
			b.err = fmt.Errorf("open board %s: %w", name, b.err)
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case b.err != nil:
		delete(f.boards, name)
	case none:
		close(f.news)
		f.news = make(chan struct{})
	}
}

// full says whether there are as many boards as there may be. Two that are made at the
// same time may both be the last.
func (f *Files) full() bool {
	if f.opts.Boards == 0 {
		return false
	}
	names, err := f.names()
	return err == nil && len(names) >= f.opts.Boards
}

// names gives those of all boards, in no order.
func (f *Files) names() (names []string, err error) {
	files, err := os.ReadDir(f.dir)
	for _, file := range files {
		if name, ok := strings.CutSuffix(file.Name(), ".jsonl"); ok && journal.CheckName(name) == nil {
			names = append(names, name)
		}
	}
	return names, err
}

// News tells of boards that are made: see Store.
func (f *Files) News() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.news
}

// Remove removes a board: see Store.
func (f *Files) Remove(ctx context.Context, name string) error {
	if err := journal.CheckName(name); err != nil {
		return err
	}
	for {
		f.mu.Lock()
		b := f.boards[name]
		switch {
		case f.closed:
			f.mu.Unlock()
			return ledger.ErrClosed
		case b != nil && b.gone != nil:
			f.mu.Unlock()
			select {
			case <-b.gone:
				continue
			case <-ctx.Done():
				return ctx.Err()
			}
		case b == nil: // nobody opens it meanwhile
			b = &loaded{ready: make(chan struct{})}
			close(b.ready)
			f.boards[name] = b
		}
		b.gone = make(chan struct{})
		if b.idle != nil { // which would hold it for as long as nobody comes
			b.idle.Stop()
		}
		f.mu.Unlock()
		<-b.ready
		var err error
		if b.l != nil {
			err = b.l.Close()
		}
		if err = errors.Join(err, ledger.Delete(f.dir, name, ledger.Options{Disk: seam.Of(f.dir).Disk})); errors.Is(err, fs.ErrNotExist) {
			err = ErrNoBoard
		}
		f.mu.Lock()
		delete(f.boards, name)
		f.mu.Unlock()
		close(b.gone)
		return err
	}
}

// release lets go of a board, which is unloaded when nobody has come for it
// for a while.
func (f *Files) release(name string, b *loaded) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if b.users--; b.users > 0 || f.boards[name] != b || b.gone != nil {
		return
	}
	if b.idle == nil {
		b.idle = time.AfterFunc(f.opts.Idle, func() { f.unload(name, b) })
	} else {
		b.idle.Reset(f.opts.Idle)
	}
}

func (f *Files) unload(name string, b *loaded) {
	f.mu.Lock()
	if b.users > 0 || b.gone != nil || f.closed {
		f.mu.Unlock()
		return
	}
	b.gone = make(chan struct{})
	f.mu.Unlock()
	<-b.ready
	if err := b.l.Close(); err != nil && f.opts.Problem != nil {
		f.opts.Problem(name, err)
	}
	f.mu.Lock()
	delete(f.boards, name)
	f.mu.Unlock()
	close(b.gone)
}

// Boards tells of the boards: see Store. Of a file that can't be read it tells
// the name alone.
func (f *Files) Boards(ctx context.Context, after string, limit int) ([]Info, error) {
	names, err := f.names()
	if err != nil {
		return nil, err
	}
	var out []Info
	for _, name := range names {
		if name > after {
			out = append(out, Info{Board: name})
		}
	}
	slices.SortFunc(out, func(a, b Info) int { return strings.Compare(a.Board, b.Board) })
	if limit > 0 && len(out) > limit {
		out = out[:limit]
	}
	for i := range out {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out[i].Version, out[i].Bytes, _ = journal.Peek(journal.DataPath(f.dir, out[i].Board))
	}
	return out, nil
}

// Close closes all boards, and gives the directory back. Commits that wait
// are done first; whoever holds a board gets ledger.ErrClosed from then on.
func (f *Files) Close() error {
	f.mu.Lock()
	f.closed = true
	boards := f.boards
	f.boards = map[string]*loaded{}
	f.mu.Unlock()
	var errs []error
	for _, b := range boards {
		<-b.ready
		f.mu.Lock()
		gone := b.gone
		if b.idle != nil {
			b.idle.Stop()
		}
		f.mu.Unlock()
		switch {
		case gone != nil:
			<-gone
		case b.l != nil:
			errs = append(errs, b.l.Close())
		}
	}
	f.tmu.Lock()
	defer f.tmu.Unlock()
	if f.tokens != nil {
		errs = append(errs, f.tokens.Close())
	}
	return errors.Join(append(errs, f.lock.Unlock())...)
}
