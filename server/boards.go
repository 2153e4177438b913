package server

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/gofrs/flock"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

// boards is the engine that keeps each board in a file of its own, in
// DATA/boards. It is safe for concurrent use.
type boards struct {
	dir     string
	lock    *flock.Flock // on DATA: a second server would not see this one's boards change
	problem func(board string, err error)

	mu     sync.Mutex // guards what follows
	open   map[string]*ledger.Ledger
	closed bool
}

// ErrInUse is returned for a data directory that another server has.
var ErrInUse = errors.New("in use by another server")

func openBoards(data string, problem func(string, error)) (*boards, error) {
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
	return &boards{dir: dir, lock: lock, problem: problem, open: map[string]*ledger.Ledger{}}, nil
}

// get gives a board. One that doesn't exist is made where create is set, and
// is nil otherwise.
func (bs *boards) get(name string, create bool) (*ledger.Ledger, error) {
	if err := journal.CheckName(name); err != nil {
		return nil, refuse("invalid", "%v", err)
	}
	bs.mu.Lock()
	defer bs.mu.Unlock()
	if b := bs.open[name]; b != nil {
		return b, nil
	}
	if bs.closed {
		return nil, ledger.ErrClosed
	}
	if !create {
		if _, err := os.Stat(journal.DataPath(bs.dir, name)); errors.Is(err, os.ErrNotExist) {
			return nil, nil
		}
	}
	b, err := ledger.Open(bs.dir, name, ledger.Options{Problem: func(err error) { bs.problem(name, err) }})
	if err != nil {
		return nil, fmt.Errorf("open board %s: %w", name, err)
	}
	bs.open[name] = b
	return b, nil
}

// names lists the boards that there are.
func (bs *boards) names() ([]string, error) {
	files, err := os.ReadDir(bs.dir)
	if err != nil {
		return nil, err
	}
	names := []string{}
	for _, f := range files {
		if name, ok := strings.CutSuffix(f.Name(), ".jsonl"); ok && journal.CheckName(name) == nil {
			names = append(names, name)
		}
	}
	return names, nil
}

func (bs *boards) close() error {
	bs.mu.Lock()
	defer bs.mu.Unlock()
	bs.closed = true
	var errs []error
	for name, b := range bs.open {
		errs = append(errs, b.Close())
		delete(bs.open, name)
	}
	return errors.Join(append(errs, bs.lock.Unlock())...)
}
