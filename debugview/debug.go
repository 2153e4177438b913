//go:build pantrydebug

package debugview

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/engine"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/server"
)

// A View makes an open namespace available to a developer. Its methods are safe for concurrent use.
type View struct {
	link  string
	close func() error
}

// Open opens a view of an open namespace until Close. The errors are those of listening, of the
// file system, and of opening the file a second time.
func Open(ns *pantry.Namespace, opts ...Option) (v *View, err error) {
	o := options{listen: "127.0.0.1:0"}
	for _, opt := range opts {
		opt(&o)
	}
	l, err := ledger.Open(filepath.Dir(ns.Path()), ns.Name(), ledger.Options{})
	if err != nil {
		return nil, err
	}
	if err = l.KeepMarks(knownMarks); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	data, err := os.MkdirTemp("", "pantry-debug-") // for tokens, which belong to this view only
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	flags := serving.Flags{Listen: o.listen}
	listener, public, err := flags.Open()
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(data), l.Close())
	}
	quiet := slog.New(slog.DiscardHandler)
	s, err := engine.Serve[*server.Server](server.Options{Data: data, Public: public, Log: quiet}, func(int, func(string, error)) (store.Store, error) {
		files, err := store.OpenFiles(data, store.FileOptions{})
		return &only{Files: files, name: ns.Name(), l: l}, err
	})
	if err != nil {
		return nil, errors.Join(err, listener.Close(), os.RemoveAll(data), l.Close())
	}
	ctx, stop := context.WithCancel(context.Background())
	v = &View{}
	if v.link, _, err = s.OwnerLink(ctx, ns.Name()); err != nil {
		stop()
		return nil, errors.Join(err, listener.Close(), s.Close(), os.RemoveAll(data), l.Close())
	}
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx, listener) }()
	v.close = sync.OnceValue(func() error {
		stop()
		return errors.Join(<-served, s.Close(), os.RemoveAll(data), l.Close())
	})
	return v, nil
}

// knownMarks is the number of commits for which a page can ask for later changes.
const knownMarks = 10_000

// Link returns the address of the view, for a browser or as a PLACE of smallpantry. Anyone who has
// it can do everything in the namespace.
func (v *View) Link() string { return v.link }

// Close ends the view. A second Close returns the same result.
func (v *View) Close() error { return v.close() }

// The namespace is the only board; the rest of a server's data is in a separate directory.
type only struct {
	*store.Files
	name string
	l    *ledger.Ledger
}

func (o *only) Board(_ context.Context, name string, _ bool) (*ledger.Ledger, func(), error) {
	if name != o.name {
		return nil, nil, store.ErrNoBoard
	}
	return o.l, func() {}, nil
}

func (o *only) Boards(context.Context, string, int) ([]store.Info, error) {
	return []store.Info{{Board: o.name, Version: o.l.Version()}}, nil
}

func (o *only) Make(ctx context.Context, name string) (*ledger.Ledger, func(), bool, error) {
	l, release, err := o.Board(ctx, name, true)
	return l, release, false, err
}

func (o *only) Remove(_ context.Context, _, _ string) error {
	return fmt.Errorf("%w: a running app has it open", rules.ErrQuota)
}
