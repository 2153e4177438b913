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
	"github.com/small-pantry/pantry/internal/test/hooks"
)

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
	*Shelf

	data string
	dir  string // of the boards, in it
	opts FileOptions
	lock *flock.Flock // on DATA: a second server would not see this one's boards change

	tmu    sync.Mutex     // guards tokens
	tokens *ledger.Ledger // nil: nobody asked for them yet
}

var _ Store = (*Files)(nil)

// OpenFiles opens a data directory, which is made where it is missing. The
// error is ErrInUse for one that another server has, or the file system's.
func OpenFiles(data string, o FileOptions) (*Files, error) {
	dir := filepath.Join(data, "boards")
	if err := journal.MakeDir(diskOf(dir), dir); err != nil {
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
	f := &Files{data: data, dir: dir, opts: o, lock: lock}
	f.Shelf = NewShelf(o.Idle, f.load, f.problem)
	return f, nil
}

// diskOf is that of a directory of boards.
func diskOf(dir string) journal.Disk { return cmp.Or[journal.Disk](hooks.Of(dir).Disk, journal.OS) }

func (f *Files) problem(board string, err error) {
	if f.opts.Problem != nil {
		f.opts.Problem(board, err)
	}
}

// options are those of a ledger, which problems call by a name.
func (f *Files) options(name string) ledger.Options {
	special := hooks.Of(f.dir)
	o := f.opts.Ledger
	o.Disk, o.Twice, o.Small = special.Disk, o.Twice || special.Twice, cmp.Or(o.Small, special.Small)
	o.Marks, o.Follow = cmp.Or(o.Marks, knownMarks), cmp.Or(o.Follow, lookEvery)
	o.Problem = func(err error) { f.problem(name, err) }
	return o
}

// Tokens gives the ledger of the tokens: see Store.
func (f *Files) Tokens(context.Context) (*ledger.Ledger, error) {
	f.tmu.Lock()
	defer f.tmu.Unlock()
	if f.tokens != nil {
		return f.tokens, nil
	}
	l, err := ledger.Open(filepath.Join(f.data, "access"), "tokens", f.options("the tokens"))
	if err != nil {
		return nil, fmt.Errorf("open the tokens: %w", err)
	}
	f.tokens = l
	return l, nil
}

// Ready says whether the directory is there and nobody closed the store: see Store.
func (f *Files) Ready(context.Context) error {
	if f.Closed() {
		return ledger.ErrClosed
	}
	_, err := os.ReadDir(f.dir)
	return err
}

// load opens a board: see NewShelf. Of one that could not be made the errors wrap
// ledger.ErrNotStored.
func (f *Files) load(name string, create bool) (l *ledger.Ledger, made bool, err error) {
	_, err = diskOf(f.dir).Look(journal.DataPath(f.dir, name))
	none := errors.Is(err, fs.ErrNotExist)
	switch {
	case none && !create:
		return nil, false, ErrNoBoard
	case none && f.full():
		return nil, false, TooMany(f.opts.Boards)
	}
	if l, err = ledger.Open(f.dir, name, f.options(name)); err == nil {
		return l, none, nil
	}
	if none && !errors.Is(err, journal.ErrBusy) { // it is not there now either
		err = fmt.Errorf("%w: %w", ledger.ErrNotStored, err)
	}
	return nil, false, fmt.Errorf("open board %s: %w", name, err)
}

// TooMany is the error for one board more than there may be.
func TooMany(most int) error {
	return refuse.As(rules.ErrQuota, "the server has %d boards, which is the most: delete one that nobody uses", most)
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

// Remove removes a board: see Store.
func (f *Files) Remove(ctx context.Context, name string) error {
	return f.Shelf.Remove(ctx, name, func() error {
		err := ledger.Delete(f.dir, name, ledger.Options{Disk: hooks.Of(f.dir).Disk})
		if errors.Is(err, fs.ErrNotExist) {
			return ErrNoBoard
		}
		return err
	})
}

// Close closes all boards, and gives the directory back. Commits that wait
// are done first; whoever holds a board gets ledger.ErrClosed from then on.
func (f *Files) Close() error {
	err := f.Shelf.Close()
	f.tmu.Lock()
	defer f.tmu.Unlock()
	if f.tokens != nil {
		err = errors.Join(err, f.tokens.Close())
	}
	return errors.Join(err, f.lock.Unlock())
}
