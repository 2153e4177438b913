package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

// A place is a namespace or a board: the same verbs work on both.
type place interface {
	where() string // for people
	get(ctx context.Context, name string) (board.Entry, bool, error)
	put(ctx context.Context, name, typed string, o putOptions) (board.Entry, error)
	operate(ctx context.Context, name string, o operation) (board.Entry, error)
	rm(ctx context.Context, names []string) (version int64, err error)
	rename(ctx context.Context, from, to string) (board.Entry, error)
	reset(ctx context.Context) (version int64, gone []string, err error)
	history(ctx context.Context, limit int, names []string) ([]board.CommitInfo, error)
	at(ctx context.Context, version int64) ([]board.Entry, error)
	// apply makes each entry what it is to be, if it is still what it was.
	apply(ctx context.Context, changes []board.Change) (version int64, err error)
	// replaced tells that all of it was replaced by what did not come from it.
	replaced() error
	list(ctx context.Context, prefix string) (listing, error)
	watch(ctx context.Context, names []string) iter.Seq2[change, error]
	Close() error
}

type putOptions struct {
	kind      value.Kind // KindNone: as stored, or as it looks
	ifVersion int64      // -1: whatever is there
}

// A listing is what ls prints.
type listing struct {
	Place    string               `json:"place"`
	Path     string               `json:"path,omitempty"`
	Version  int64                `json:"version"`
	Entries  []board.Entry        `json:"entries"`
	Declared []pantry.DeclaredKey `json:"declared"`
}

// A change is what watch prints: an entry, or a name that is gone.
type change struct {
	entry board.Entry
	gone  bool
}

// A way is how a place is opened.
type way struct {
	write  bool
	create bool          // make a namespace that isn't there; implies write
	every  time.Duration // how often to look for changes; 0: the default
	quiet  bool          // don't name problems: they will be findings
}

// patience is how long a command tries again.
const patience = 2 * time.Second

func isURL(s string) bool {
	return strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")
}

// open opens a PLACE, or a PLACE@VERSION to read. Problems are named on
// standard error.
func (a *app) open(where string, w way) (place, error) {
	bare, version, err := splitVersion(where)
	if err != nil {
		return nil, err
	}
	if version < 0 {
		return a.openNow(bare, w)
	}
	if w.write || w.create {
		return nil, usage("%s is how the place was, which can't be changed; write %s, or see restore", value.Quote(where), bare)
	}
	p, err := a.openNow(bare, w)
	if err != nil {
		return nil, err
	}
	return &past{p, version}, nil
}

// openNow opens a PLACE as it is.
func (a *app) openNow(where string, w way) (place, error) {
	where, err := resolve(where)
	if err != nil {
		return nil, err
	}
	tell := a.tell(where, w)
	if isURL(where) {
		b, err := board.Join(where, board.As("smallpantry"), board.Patience(patience), board.Poll(w.every, w.every), board.OnProblem(tell))
		if err != nil {
			return nil, err
		}
		return &shared{b: b, address: where}, nil
	}
	dir, name, err := splitPlace(where)
	if err != nil {
		return nil, err
	}
	if err := notExport(dir, name); err != nil {
		return nil, err
	}
	absent := noNamespace(dir, name)
	opts := []pantry.Option{pantry.OnProblem(tell), pantry.Follow(w.every), pantry.As("smallpantry")}
	if !w.write && !w.create {
		opts = append(opts, pantry.ReadOnly())
	} else if !w.create && !isFile(filepath.Join(dir, name+".jsonl")) {
		return nil, absent
	}
	ns, err := pantry.Open(dir, name, opts...)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, absent
	}
	if err != nil {
		return nil, err
	}
	return &device{ns: ns, place: where}, nil
}

// tell names the problems of a place on standard error.
func (a *app) tell(where string, w way) func(pantry.Problem) {
	return func(p pantry.Problem) {
		a.problems = append(a.problems, p)
		if w.quiet {
			return
		}
		fmt.Fprintf(a.stderr, "smallpantry: %v\n", p)
		if errors.Is(p.Err, pantry.ErrDamaged) && !w.write && !w.create {
			a.damaged = true
			fmt.Fprintf(a.stderr, "  smallpantry repair %s saves what is intact.\n", where)
		}
	}
}

func noNamespace(dir, name string) error {
	if path := filepath.Join(dir, name); isDir(path) {
		return exitError{exitAbsent, fmt.Sprintf("%[1]s is a directory and no namespace: write %[1]s/NAMESPACE; smallpantry ls %[1]s lists what there is", path)}
	}
	return exitError{exitAbsent, fmt.Sprintf("there is no namespace %s in %s; put makes one", name, dir)}
}

// splitPlace gives the directory and the name of a namespace.
func splitPlace(place string) (dir, name string, err error) {
	if place == "" || strings.HasSuffix(place, "/") {
		return "", "", usage("%q is no place: write DIR/NAMESPACE or http://HOST:PORT/b/BOARD", place)
	}
	dir, name = filepath.Split(filepath.FromSlash(place))
	if dir == "" {
		dir = "."
	}
	if bare, ok := strings.CutSuffix(name, ".jsonl"); ok {
		return "", "", usage("a place is named without the ending of its file: write %s", filepath.Join(dir, bare))
	}
	if err := pantry.CheckNamespace(name); err != nil {
		return "", "", usageError{err}
	}
	return filepath.Clean(dir), name, nil
}

// checkNames refuses names that no entry can have, before anything is done.
func checkNames(names ...string) error {
	for _, name := range names {
		if err := pantry.CheckName(name); err != nil {
			return usageError{err}
		}
	}
	return nil
}

func isDir(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}
