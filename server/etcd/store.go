package etcd

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/store"
)

const (
	knownMarks  = 10_000    // the number of commits of a board whose marks are known
	smallBoard  = 256 << 10 // the minimum size for a checkpoint
	lookAgain   = 200 * time.Millisecond
	readyWithin = 2 * time.Second
)

// Options are the settings of a Store.
type Options struct {
	// Endpoints are the client addresses of the etcd nodes, HOST:PORT or http(s)://HOST:PORT.
	Endpoints []string
	// TLS returns the configuration of a new connection to a node, with the client's certificate. It is
	// called for each connection, so that files can change. nil means connections without TLS.
	TLS func(host string) *tls.Config
	// Groups are further etcds. New boards are assigned to the one that uses the least space. All
	// servers on a store must have the same groups.
	Groups []Group
	// Prefix is the beginning of all keys; empty means DefaultPrefix.
	Prefix string
	// Boards is the maximum number of boards; 0 means no limit.
	Boards int
	// Idle is how long an unused board stays in memory; 0 means 10 minutes.
	Idle time.Duration
	// Problem is called with problems that the store survives; nil ignores them.
	Problem func(board string, err error)

	ledger ledger.Options // of each board, for tests
}

// A Group is an etcd with a name that never changes.
type Group struct {
	Name      string
	Endpoints []string
	TLS       func(host string) *tls.Config // as Options.TLS; nil means the same
}

// A Store stores boards in etcd. Several servers can use the same boards.
type Store struct {
	*store.Shelf
	g      *group // the first, which has the tokens and the group of each board
	groups []*group
	opts   Options

	tmu    sync.Mutex     // guards tokens
	tokens *ledger.Ledger // nil: not requested yet

	voided atomic.Pointer[func(names ...string)] // see OnVoid

	peers atomic.Pointer[Peers] // nil: it is alone
	lag   atomic.Int64          // of the feed, in milliseconds: see metrics

	boards boardCount

	mu    sync.Mutex // guards the following fields
	open  map[string]*opened
	lives map[string]*opened // the same, by the boards' lives

	stop  context.CancelFunc
	feeds sync.WaitGroup
}

// An opened board receives the events of the feed.
type opened struct {
	name string
	life string
	log  *log
	l    atomic.Pointer[ledger.Ledger] // nil: it is being opened
	busy atomic.Int32                  // 1: it is being updated; 2: and once more afterwards
}

var (
	_ store.Shared = (*Store)(nil)
	_ listener     = (*Store)(nil)
)

// Open opens the store in etcd, and creates it if there is none. The errors are ErrNoMajority,
// ErrNoNode and ErrNewer.
func Open(ctx context.Context, o Options) (*Store, error) {
	groups, err := connect(o)
	if err != nil {
		return nil, err
	}
	s := &Store{g: groups[0], groups: groups, opts: o, open: map[string]*opened{}, lives: map[string]*opened{}}
	s.Shelf = store.NewShelf(o.Idle, s.load, s.problem)
	feed, stop := context.WithCancel(context.Background())
	s.stop = stop
	for _, g := range groups {
		if err := g.claim(ctx); err != nil {
			stop()
			s.feeds.Wait()
			return nil, errors.Join(err, disconnect(groups))
		}
		g.hear()
		g.state.changed = func(now error) { s.stateOf(g, now) }
		g.feed = newFeed(feed, g, s)
		s.feeds.Go(g.feed.beat)
		s.feeds.Go(g.feed.wait)
		g.feed.own(allShards())
		s.feeds.Go(func() { s.checkVersions(feed, g) })
	}
	return s, nil
}

func (s *Store) problem(board string, err error) {
	if s.opts.Problem != nil {
		s.opts.Problem(board, err)
	}
}

// load opens a board: see store.NewShelf.
func (s *Store) load(name string, create bool) (l *ledger.Ledger, made bool, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	for {
		p, err := s.find(ctx, name)
		if err != nil {
			return nil, false, err
		}
		var m *making
		if p.head == nil {
			if !create {
				return nil, false, store.ErrNoBoard
			}
			if m, err = s.place(ctx, name, &p); err != nil {
				return nil, false, err
			}
		}
		l, err = s.openLedger(name, p.g, m)
		switch {
		case !ledger.IsNotExist(err):
			return l, err == nil && m != nil && m.made.Load(), err
		case m != nil:
			return nil, false, store.ErrNoBoard // the caller tries again
		case ctx.Err() != nil:
			return nil, false, s.g.noMajority(ctx, nil)
		}
		// It was removed or moved meanwhile. The next read says which.
	}
}

// openLedger opens the ledger of a board, or creates it. It receives everything that is written from then
// on.
func (s *Store) openLedger(name string, g *group, m *making) (*ledger.Ledger, error) {
	o := &opened{name: name, log: &log{g: g, board: name, making: m, absent: m != nil && name != tokens}}
	o.log.closed = func() { s.forget(o) }
	s.mu.Lock()
	s.open[name] = o
	s.mu.Unlock()
	opts := s.opts.ledger
	opts.Marks, opts.Steady, opts.Small = cmp.Or(opts.Marks, knownMarks), true, cmp.Or(opts.Small, smallBoard)
	opts.Problem = func(err error) { s.problem(name, err) }
	l, err := ledger.OpenLog(strings.TrimPrefix(name, "!"), g.keys.head(name), o.log, opts)
	if err != nil {
		o.log.closed()
		return nil, err
	}
	o.l.Store(l)
	s.mu.Lock()
	o.life = o.log.life
	s.lives[o.life] = o
	g.feed.watch(name, o.life)
	s.mu.Unlock()
	o.log.doubt() // batches that were delivered before its life was known
	s.refresh(name, o)
	return l, nil
}

// forget ends what an opened board receives.
func (s *Store) forget(o *opened) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[o.name] == o {
		delete(s.open, o.name)
	}
	if s.lives[o.life] == o {
		delete(s.lives, o.life)
		o.log.g.feed.unwatch(o.name, o.life)
	}
}

// refresh reads what a board's log was offered. It runs once at a time, and once more if something
// new arrived meanwhile.
func (s *Store) refresh(name string, o *opened) {
	l := o.l.Load()
	if l == nil || o.busy.Add(1) > 1 {
		return
	}
	go func() {
		for {
			had := o.busy.Load()
			err := l.Refresh()
			switch {
			case errors.Is(err, errRemoved):
				s.removed(name)
				return
			case errors.Is(err, ledger.ErrClosed):
				return
			case errors.Is(err, journal.ErrBusy):
				o.log.doubt()
				time.Sleep(lookAgain)
				continue
			case err != nil:
				s.problem(name, err)
			}
			if o.busy.CompareAndSwap(had, 0) {
				return
			}
		}
	}()
}

// opened returns an open board; nil means that it is not open.
func (s *Store) opened(board string) *opened {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.open[board]
}

// Near reports whether the writes of other servers arrive: see store.Shared.
func (s *Store) Near() bool { return s.g.near() }

// Servers returns the number of servers: see store.Shared.
func (s *Store) Servers() int {
	if p := s.peers.Load(); p != nil {
		return max(len(p.Servers()), 1)
	}
	return 1
}

// Tokens returns the ledger of the tokens: see store.Store.
func (s *Store) Tokens(context.Context) (*ledger.Ledger, error) {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	if s.tokens == nil {
		l, err := s.openLedger(tokens, s.g, &making{})
		if err != nil {
			return nil, fmt.Errorf("open the tokens: %w", err)
		}
		s.tokens = l
	}
	return s.tokens, nil
}

// Boards lists the boards: see store.Store.
func (s *Store) Boards(ctx context.Context, after string, limit int) (out []store.Info, err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for limit == 0 || len(out) < limit {
		names, err := s.records(ctx, after, limit-len(out))
		if err != nil || len(names) == 0 {
			return out, err
		}
		after = names[len(names)-1]
		heads := make(map[string]head, len(names))
		for _, g := range s.groups {
			if err := g.headsOf(ctx, names, heads); err != nil {
				return nil, err
			}
		}
		for _, name := range names { // a record without a head is of a board that is being created
			if h, ok := heads[name]; ok {
				out = append(out, store.Info{Board: name, Version: h.Version, Bytes: h.Size})
			}
		}
	}
	return out, nil
}

// records returns the names of the boards after one, at most limit of them (0 or less: a thousand).
func (s *Store) records(ctx context.Context, after string, limit int) (names []string, err error) {
	groups := s.g.keys.groups()
	if limit <= 0 || limit > 1000 {
		limit = 1000
	}
	resp, err := s.g.get(ctx, groups+after+"\x00", clientv3.WithRange(clientv3.GetPrefixRangeEnd(groups)), clientv3.WithLimit(int64(limit)), clientv3.WithKeysOnly())
	if err != nil {
		return nil, err
	}
	for _, kv := range resp.Kvs {
		names = append(names, string(kv.Key[len(groups):]))
	}
	return names, nil
}

// headsOf reads the heads of the named boards that are in the group. One that can't be read is empty.
func (g *group) headsOf(ctx context.Context, names []string, to map[string]head) error {
	for some := range slices.Chunk(names, readsAtOnce) {
		var ops []clientv3.Op
		for _, name := range some {
			ops = append(ops, clientv3.OpGet(g.keys.head(name)))
		}
		resp, err := g.reads(ctx, ops...)
		if err != nil {
			return err
		}
		for i, name := range some {
			for _, kv := range resp.Responses[i].GetResponseRange().Kvs {
				if h, _ := readHead(string(kv.Key), kv.Value); h.Gone == "" {
					to[name] = h
				}
			}
		}
	}
	return nil
}

// Ready reports whether most nodes answer: see store.Store.
func (s *Store) Ready(ctx context.Context) error {
	if s.Closed() {
		return ledger.ErrClosed
	}
	ctx, cancel := context.WithTimeout(ctx, readyWithin)
	defer cancel()
	for _, g := range s.groups {
		if _, _, err := g.fence(ctx, ""); err != nil {
			return err
		}
	}
	return nil
}

// Close closes all boards and the connections to etcd.
func (s *Store) Close() error {
	err := s.Shelf.Close()
	s.tmu.Lock()
	defer s.tmu.Unlock()
	if s.tokens != nil {
		err = errors.Join(err, s.tokens.Close())
	}
	s.stop()
	s.feeds.Wait()
	return errors.Join(err, disconnect(s.groups))
}
