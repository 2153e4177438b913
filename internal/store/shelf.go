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

// quiet is how long a board that nobody holds stays loaded.
const quiet = 10 * time.Minute

// A Shelf holds the boards that are open, each with a latch of its own. It is safe for
// concurrent use.
type Shelf struct {
	load    func(name string, create bool) (l *ledger.Ledger, made bool, err error)
	problem func(board string, err error)
	idle    time.Duration

	mu     sync.Mutex // guards what follows; not held while a board is opened or closed
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
	open  bool          // it is, for whoever comes: no need to wait; guarded by Shelf.mu
	users int           // who hold it, or wait for it; guarded by Shelf.mu
	idle  *time.Timer   // that unloads it; guarded by Shelf.mu
	gone  chan struct{} // made when it is to be closed, closed when it is; guarded by Shelf.mu
}

// NewShelf gives a Shelf. load opens a board, which it makes with create where there is none,
// and says so; else that is ErrNoBoard. A board that nobody held for idle (0: 10 minutes) is
// closed.
func NewShelf(idle time.Duration, load func(name string, create bool) (l *ledger.Ledger, made bool, err error), problem func(board string, err error)) *Shelf {
	return &Shelf{load: load, problem: problem, idle: cmp.Or(idle, quiet), boards: map[string]*loaded{}, news: make(chan struct{})}
}

// Board gives a board: see Store. Its errors are *journal.NameError for a
// name that no board has, ErrNoBoard, ledger.ErrClosed after Close, that of ctx,
// and those of load.
func (s *Shelf) Board(ctx context.Context, name string, create bool) (*ledger.Ledger, func(), error) {
	s.mu.Lock()
	if b := s.boards[name]; b != nil && b.open && b.gone == nil && !s.closed {
		b.users++
		s.mu.Unlock()
		return b.l, func() { s.release(name, b) }, nil
	}
	s.mu.Unlock()
	return s.await(ctx, name, create)
}

// await is Board for one that is not open yet.
func (s *Shelf) await(ctx context.Context, name string, create bool) (*ledger.Ledger, func(), error) {
	if err := journal.CheckName(name); err != nil {
		return nil, nil, err
	}
	for {
		s.mu.Lock()
		b := s.boards[name]
		var wait <-chan struct{}
		switch {
		case s.closed:
			s.mu.Unlock()
			return nil, nil, ledger.ErrClosed
		case b == nil:
			b = &loaded{ready: make(chan struct{})}
			s.boards[name] = b
			b.users++
			s.mu.Unlock()
			s.open(b, name, create)
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
			return nil, nil, ctx.Err()
		}
		switch {
		case b == nil: // it is closed now
		case b.err == nil:
			return b.l, func() { s.release(name, b) }, nil
		case errors.Is(b.err, ErrNoBoard) && create: // somebody else did not want to make it
		default:
			return nil, nil, b.err
		}
	}
}

// open opens a board for all who wait for it; one that can't be opened is forgotten, so that
// the next one who asks tries again.
func (s *Shelf) open(b *loaded, name string, create bool) {
	defer close(b.ready)
	var made bool
	b.l, made, b.err = s.load(name, create)
	s.mu.Lock()
	defer s.mu.Unlock()
	if b.open = b.err == nil; !b.open {
		delete(s.boards, name)
	}
	if made {
		s.tell()
	}
}

// tell wakes who waits for a board to be made; mu must be held.
func (s *Shelf) tell() {
	close(s.news)
	s.news = make(chan struct{})
}

// Made says that somebody else has made a board.
func (s *Shelf) Made() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tell()
}

// Open is how many boards are in memory: see Store.
func (s *Shelf) Open() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.boards)
}

// News tells of boards that are made: see Store.
func (s *Shelf) News() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.news
}

// Remove closes a board, whoever holds it, and removes it by remove; nobody opens it meanwhile.
func (s *Shelf) Remove(ctx context.Context, name string, remove func() error) error {
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
		case b == nil: // nobody opens it meanwhile
			b = &loaded{ready: make(chan struct{})}
			close(b.ready)
			s.boards[name] = b
		}
		b.gone = make(chan struct{})
		if b.idle != nil { // which would hold it for as long as nobody comes
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

// release lets go of a board, which is unloaded when nobody has come for it
// for a while.
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

// Close closes all boards. Commits that wait are done first; whoever holds a board gets
// ledger.ErrClosed from then on.
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

// Closed says whether the shelf was closed.
func (s *Shelf) Closed() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.closed
}
