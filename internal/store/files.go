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

// knownMarks is how many commits of a board have known marks. lookEvery is how often a watched
// board's file is checked: an operator may have replaced it.
const (
	knownMarks = 10_000
	lookEvery  = 2 * time.Second
)

// FileOptions configure Files.
type FileOptions struct {
	Idle    time.Duration                 // how long a board that is not held stays loaded; 0 means 10 minutes
	Boards  int                           // the maximum number of boards; 0 means no limit
	Problem func(board string, err error) // receives faults that were survived
	Ledger  ledger.Options                // of each board, except Problem
}

// Files stores each board in a journal of its own, in DATA/boards.
type Files struct {
	*Shelf

	data string
	dir  string // of the boards, in data
	opts FileOptions
	lock *flock.Flock // on data: a second server would not see this one's changes

	tmu    sync.Mutex     // guards tokens
	tokens *ledger.Ledger // nil until Tokens is called
}

var _ Store = (*Files)(nil)

// OpenFiles opens a data directory and creates it if it is missing. The error is ErrInUse if
// another server uses it, or the file system's.
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

// diskOf returns the disk of a directory of boards.
func diskOf(dir string) journal.Disk { return cmp.Or[journal.Disk](hooks.Of(dir).Disk, journal.OS) }

func (f *Files) problem(board string, err error) {
	if f.opts.Problem != nil {
		f.opts.Problem(board, err)
	}
}

// options returns the options of a ledger. Problems call it by name.
func (f *Files) options(name string) ledger.Options {
	special := hooks.Of(f.dir)
	o := f.opts.Ledger
	o.Disk, o.Twice, o.Small = special.Disk, o.Twice || special.Twice, cmp.Or(o.Small, special.Small)
	o.Marks, o.Follow = cmp.Or(o.Marks, knownMarks), cmp.Or(o.Follow, lookEvery)
	o.Problem = func(err error) { f.problem(name, err) }
	return o
}

// Tokens returns the ledger of the tokens: see Store.
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

// Ready reports whether the directory exists and the store is open: see Store.
func (f *Files) Ready(context.Context) error {
	if f.Closed() {
		return ledger.ErrClosed
	}
	_, err := os.ReadDir(f.dir)
	return err
}

// load opens a board: see NewShelf. If it can't create one, the error wraps ledger.ErrNotStored.
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
	if none && !errors.Is(err, journal.ErrBusy) { // it does not exist now either
		err = fmt.Errorf("%w: %w", ledger.ErrNotStored, err)
	}
	return nil, false, fmt.Errorf("open board %s: %w", name, err)
}

// TooMany returns the error for a board over the limit.
func TooMany(most int) error {
	return refuse.As(rules.ErrQuota, "the server has %d boards, which is the limit: delete boards that are not used", most)
}

// full reports whether the limit of boards is reached. Two concurrent creations can both be the
// last.
func (f *Files) full() bool {
	if f.opts.Boards == 0 {
		return false
	}
	names, err := f.names()
	return err == nil && len(names) >= f.opts.Boards
}

// names returns the names of all boards in no order.
func (f *Files) names() (names []string, err error) {
	files, err := os.ReadDir(f.dir)
	for _, file := range files {
		if name, ok := strings.CutSuffix(file.Name(), ".jsonl"); ok && journal.CheckName(name) == nil {
			names = append(names, name)
		}
	}
	return names, err
}

// Boards lists the boards: see Store. For a file that can't be read it returns only the name.
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
func (f *Files) Remove(ctx context.Context, name, life string) error {
	return f.Shelf.Remove(ctx, name, life, func() error {
		err := ledger.Delete(f.dir, name, ledger.Options{Disk: hooks.Of(f.dir).Disk})
		if errors.Is(err, fs.ErrNotExist) {
			return ErrNoBoard
		}
		return err
	})
}

// Close closes all boards and frees the directory. Waiting commits are done first. Holders of a
// board then get ledger.ErrClosed.
func (f *Files) Close() error {
	err := f.Shelf.Close()
	f.tmu.Lock()
	defer f.tmu.Unlock()
	if f.tokens != nil {
		err = errors.Join(err, f.tokens.Close())
	}
	return errors.Join(err, f.lock.Unlock())
}
