package store

import (
	"cmp"
	"context"
	"errors"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

// quiet is how long a board that is not held stays loaded.
const quiet = 10 * time.Minute

// A Shelf holds the open boards. Opening one blocks no other. It is safe for concurrent use.
type Shelf struct {
	load    func(name string, create bool) (l *ledger.Ledger, made bool, err error)
	problem func(board string, err error)
	idle    time.Duration

	mu     sync.Mutex // guards the following fields; not held while a board is opened or closed
	boards map[string]*loaded
	closed bool
	news   chan struct{} // closed and replaced when a board is created
}

// A loaded board is open, or is being opened or closed. Other callers for this board wait for that.
type loaded struct {
	ready chan struct{} // closed when l and err are set
	l     *ledger.Ledger
	err   error
	open  bool          // it is open, so that no caller waits; guarded by Shelf.mu
	users int           // holders and waiting callers; guarded by Shelf.mu
	idle  *time.Timer   // unloads it; guarded by Shelf.mu
	gone  chan struct{} // made before it is closed, closed afterwards; guarded by Shelf.mu
}

// NewShelf returns a Shelf. load opens a board; with create it creates a missing one and reports
// made, otherwise it returns ErrNoBoard. A board that is not held for idle (0: 10 minutes) is
// closed.
func NewShelf(idle time.Duration, load func(name string, create bool) (l *ledger.Ledger, made bool, err error), problem func(board string, err error)) *Shelf {
	return &Shelf{load: load, problem: problem, idle: cmp.Or(idle, quiet), boards: map[string]*loaded{}, news: make(chan struct{})}
}

// Board returns a board: see Store. Its errors are *journal.NameError for an invalid name,
// ErrNoBoard, ledger.ErrClosed after Close, that of ctx, and those of load.
func (s *Shelf) Board(ctx context.Context, name string, create bool) (*ledger.Ledger, func(), error) {
	s.mu.Lock()
	if b := s.boards[name]; b != nil && b.open && b.gone == nil && !s.closed {
		b.users++
		s.mu.Unlock()
		return b.l, func() { s.release(name, b) }, nil
	}
	s.mu.Unlock()
	l, release, _, err := s.await(ctx, name, create)
	return l, release, err
}

// Make returns a board and creates it if there is none: see Store.
func (s *Shelf) Make(ctx context.Context, name string) (l *ledger.Ledger, release func(), made bool, err error) {
	return s.await(ctx, name, true)
}

// await is Board for a board that may not be open yet. made reports that this call has created it.
func (s *Shelf) await(ctx context.Context, name string, create bool) (l *ledger.Ledger, release func(), made bool, err error) {
	if err := journal.CheckName(name); err != nil {
		return nil, nil, false, err
	}
	for {
		s.mu.Lock()
		b := s.boards[name]
		var wait <-chan struct{}
		switch {
		case s.closed:
			s.mu.Unlock()
			return nil, nil, false, ledger.ErrClosed
		case b == nil:
			b = &loaded{ready: make(chan struct{})}
			s.boards[name] = b
			b.users++
			s.mu.Unlock()
			made = s.open(b, name, create)
			wait = b.ready
		case b.gone != nil:
			wait, b = b.gone, nil
			s.mu.Unlock()
		default:
			b.users++
			s.mu.Unlock()
			wait = b.ready
		}
		select {
		case <-wait:
		case <-ctx.Done():
			if b != nil {
				s.release(name, b)
			}
			return nil, nil, false, ctx.Err()
		}
		switch {
		case b == nil: // it is closed now
		case b.err == nil:
			return b.l, func() { s.release(name, b) }, made, nil
		case errors.Is(b.err, ErrNoBoard) && create: // another caller did not want to create it
		default:
			return nil, nil, false, b.err
		}
	}
}

// open opens a board for all who wait for it, and reports whether it created it. If that fails, the
// board is forgotten, so the next caller tries again.
func (s *Shelf) open(b *loaded, name string, create bool) (made bool) {
	defer close(b.ready)
	b.l, made, b.err = s.load(name, create)
	s.mu.Lock()
	defer s.mu.Unlock()
	if b.open = b.err == nil; !b.open {
		delete(s.boards, name)
	}
	if made {
		s.tell()
	}
	return made
}

// tell wakes callers that wait for a board to be created. mu must be held.
func (s *Shelf) tell() {
	close(s.news)
	s.news = make(chan struct{})
}

// Made reports that another server has created a board.
func (s *Shelf) Made() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tell()
}

// Open returns the number of loaded boards: see Store.
func (s *Shelf) Open() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.boards)
}

// News returns a channel for created boards: see Store.
func (s *Shelf) News() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.news
}

// Remove closes a board, even if others hold it, and removes it by calling remove. The board can't be
// opened meanwhile. A board that is open with another life than the given one stays: see Store.
func (s *Shelf) Remove(ctx context.Context, name, life string, remove func() error) error {
	if err := journal.CheckName(name); err != nil {
		return err
	}
	for {
		s.mu.Lock()
		b := s.boards[name]
		switch {
		case s.closed:
			s.mu.Unlock()
			return ledger.ErrClosed
		case b != nil && b.gone != nil:
			s.mu.Unlock()
			select {
			case <-b.gone:
				continue
			case <-ctx.Done():
				return ctx.Err()
			}
		case life != "" && (b == nil || !b.open || b.l.Life() != life): // the caller's ledger is closed
			s.mu.Unlock()
			return ErrNoBoard
		case b == nil: // it can't be opened meanwhile
			b = &loaded{ready: make(chan struct{})}
			close(b.ready)
			s.boards[name] = b
		}
		b.gone = make(chan struct{})
		if b.idle != nil { // otherwise the waiting callers would hold it
			b.idle.Stop()
		}
		s.mu.Unlock()
		<-b.ready
		var err error
		if b.l != nil {
			err = b.l.Close()
		}
		err = errors.Join(err, remove())
		s.mu.Lock()
		delete(s.boards, name)
		s.mu.Unlock()
		close(b.gone)
		return err
	}
}

// release releases a board. It is unloaded if it is not requested for a while.
func (s *Shelf) release(name string, b *loaded) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if b.users--; b.users > 0 || s.boards[name] != b || b.gone != nil {
		return
	}
	if b.idle == nil {
		b.idle = time.AfterFunc(s.idle, func() { s.unload(name, b) })
	} else {
		b.idle.Reset(s.idle)
	}
}

func (s *Shelf) unload(name string, b *loaded) {
	s.mu.Lock()
	if b.users > 0 || b.gone != nil || s.closed {
		s.mu.Unlock()
		return
	}
	b.gone = make(chan struct{})
	s.mu.Unlock()
	<-b.ready
	if err := b.l.Close(); err != nil {
		s.problem(name, err)
	}
	s.mu.Lock()
	delete(s.boards, name)
	s.mu.Unlock()
	close(b.gone)
}

// Close closes all boards. Waiting commits are done first. Holders of a board then get
// ledger.ErrClosed.
func (s *Shelf) Close() error {
	s.mu.Lock()
	s.closed = true
	boards := s.boards
	s.boards = map[string]*loaded{}
	s.mu.Unlock()
	var errs []error
	for _, b := range boards {
		<-b.ready
		s.mu.Lock()
		gone := b.gone
		if b.idle != nil {
			b.idle.Stop()
		}
		s.mu.Unlock()
		switch {
		case gone != nil:
			<-gone
		case b.l != nil:
			errs = append(errs, b.l.Close())
		}
	}
	return errors.Join(errs...)
}

// Closed reports whether the shelf is closed.
func (s *Shelf) Closed() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.closed
}
