package etcd

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

const (
	// partSize is the maximum size of a part: etcd accepts 1.5 MiB in one request.
	partSize = 512 << 10
	// mostOffered is the number of batches that wait to be used; further ones are read when they
	// are needed.
	mostOffered = 1000
	// keptFor is the minimum time that the log is kept, and mostCheckpoints the maximum number of
	// checkpoints.
	keptFor         = 10 * time.Minute
	mostCheckpoints = 8
)

// errRemoved is returned for a board that was removed while it was open.
var errRemoved = fmt.Errorf("the board was removed: %w", ledger.ErrClosed)

// A log is the log of one board. All servers write to the same one. Each knows what it has read,
// and what the feed has delivered since.
type log struct {
	g      *group
	board  string
	making *making // creates the board if there is none; nil means that it must exist
	absent bool    // it is known that there is none: the first Load reads nothing
	loaded *stored // what the first Load uses instead of reading it; nil means nothing
	closed func()  // called when the log is

	mu      sync.Mutex // guards the following fields
	offered []batch    // in order
	newest  *offeredHead
	unread  bool  // there is more than was offered
	need    int64 // a version that was announced
	removed bool
	life    string // of the board, once it is known

	// Used by the owner of the log.
	lines journal.Lines
	rev   int64 // of the store, that wrote the head; 0 means none
	base  int64 // that wrote the tombstone of the board before, if rev is 0; 0 means none
	head  head  // as the revision wrote it; lines can be further
	took  time.Duration
}

// An offeredHead is a head that the feed delivered.
type offeredHead struct {
	head
	rev int64 // that wrote it
}

// A making is how a board is created, beside its first checkpoint.
type making struct {
	base   int64  // the revision of the tombstone of the board before; 0 means none
	record string // the key of the board's group record, if the same group has it; else empty
	rev    int64  // the known revision of that record; 0 means none
	group  string // what the record says
	made   atomic.Bool
}

// write adds the group record to the write of the first head.
func (m *making) write(w write) write {
	if m.record != "" {
		w.cond = append(w.cond, clientv3.Compare(clientv3.ModRevision(m.record), "=", m.rev))
		w.then = append(w.then, clientv3.OpPut(m.record, m.group))
	}
	return w
}

var _ ledger.Fencer = (*log)(nil)

// in returns where the life of the board is stored.
func (l *log) in() room { return l.g.keys.of(l.board, l.head.Life) }

// offerHead stores a head that the feed delivers. The batch of the same commit can come before or after it.
func (l *log) offerHead(h head, rev int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.newest == nil || l.newest.rev < rev {
		l.newest = &offeredHead{h, rev}
	}
}

// offer stores a batch that the feed delivers.
func (l *log) offer(b batch) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.offered) >= mostOffered {
		l.offered, l.unread = nil, true
		return
	}
	l.offered = append(l.offered, b)
}

// doubt makes the next read ask etcd: the feed can have missed something.
func (l *log) doubt() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.unread = true
}

func (l *log) gone() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.removed = true
	return errRemoved
}

func (l *log) now() ledger.Head {
	v := l.lines.Version()
	return ledger.Head{Header: l.lines.Header(), Version: v, End: l.lines.Newest(), Synced: v, Size: l.head.Size, Took: l.took}
}

// none returns the error if there is no head.
func (l *log) none() error {
	if l.rev == 0 {
		return fs.ErrNotExist
	}
	return l.gone()
}

func (l *log) Load(c journal.Consumer, wait time.Duration) (ledger.Head, error) {
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	l.mu.Lock()
	l.offered, l.newest, l.unread = nil, nil, false // what is read is newer
	l.mu.Unlock()
	var all stored
	var err error
	switch {
	case l.absent:
		l.absent, all.rev, err = false, l.making.base, fs.ErrNotExist
	case l.loaded != nil:
		all, l.loaded = *l.loaded, nil
	default:
		all, err = l.g.load(ctx, l.board)
	}
	if errors.Is(err, fs.ErrNotExist) || err == nil && l.rev > 0 && all.head.Life != l.head.Life {
		if l.rev == 0 {
			l.base = all.rev
		}
		return ledger.Head{}, l.none()
	}
	if err != nil {
		return ledger.Head{}, err
	}
	lines, err := all.read(c)
	if err != nil {
		return ledger.Head{}, l.damage(err)
	}
	l.lines, l.rev, l.head = lines, all.rev, all.head
	l.lives()
	return l.now(), nil
}

// lives publishes the board's life.
func (l *log) lives() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.life = l.head.Life
}

// damage says where the damage is.
func (l *log) damage(err error) error {
	if d, ok := journal.AsDamage(err); ok && d.Path == "" {
		d.Path = string(l.g.keys) + "…/" + l.board
	}
	return err
}

// take returns what was offered, to be read, and whether etcd must be asked for more.
func (l *log) take() (offered []batch, newest *offeredHead, unread, removed bool, need int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	offered, l.offered = l.offered, nil
	newest, l.newest = l.newest, nil
	unread, l.unread = l.unread, false
	return offered, newest, unread, l.removed, l.need
}

func (l *log) After(h ledger.Head, c journal.Consumer, wait time.Duration) (ledger.Head, error) {
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	offered, newest, unread, removed, need := l.take()
	if removed {
		return h, errRemoved
	}
	n := next{lines: l.lines, rev: l.rev, head: l.head}
	for i := range offered {
		b := &offered[i]
		version := n.lines.Version()
		if b.last() <= version {
			continue
		}
		if b.first != version+1 {
			unread = true
			break
		}
		err := l.g.fill(ctx, l.in(), b)
		if err == nil {
			err = n.take(*b, c)
		}
		if err != nil {
			l.doubt()
			return h, l.damage(err)
		}
	}
	if newest != nil && newest.rev > n.rev {
		switch {
		case newest.Life != n.head.Life:
			return h, l.gone()
		case newest.ID != n.head.ID: // something was forgotten, or restored
			return h, ledger.ErrReload
		case newest.Version == n.lines.Version():
			n.rev, n.head = newest.rev, newest.head
		case newest.Version > n.lines.Version(): // its batch comes later
			l.offerHead(newest.head, newest.rev)
		}
	}
	if unread || n.lines.Version() < need {
		err := l.readOn(ctx, &n, c)
		if err != nil {
			l.doubt()
			return h, l.damage(err)
		}
	}
	l.lines, l.rev, l.head = n.lines, n.rev, n.head
	return l.now(), nil
}

// A next is the position of a log after everything could be read.
type next struct {
	lines journal.Lines
	rev   int64
	head  head
}

// take reads the next batch.
func (n *next) take(b batch, c journal.Consumer) (err error) {
	if n.lines, err = n.lines.More(b.lines, c); err == nil {
		n.head.Size += int64(len(b.lines))
	}
	return err
}

// readOn reads what etcd has, as of one moment.
func (l *log) readOn(ctx context.Context, n *next, c journal.Consumer) error {
	key := l.g.keys.head(l.board)
	resp, err := l.g.get(ctx, key)
	if err != nil {
		return err
	}
	if len(resp.Kvs) == 0 {
		return l.gone()
	}
	kv := resp.Kvs[0]
	if kv.ModRevision == n.rev {
		return nil
	}
	h, err := readHead(key, kv.Value)
	if err != nil {
		return err
	}
	if h.Gone != "" || h.Life != n.head.Life {
		return l.gone()
	}
	version := n.lines.Version()
	if h.ID != n.head.ID || h.First > version+1 || h.Version < version {
		return ledger.ErrReload
	}
	batches, err := l.g.batches(ctx, l.in(), version+1, clientv3.WithRev(resp.Header.Revision))
	if errors.Is(err, rpctypes.ErrCompacted) {
		return ledger.ErrReload
	}
	if err != nil {
		return err
	}
	for _, b := range batches {
		if err := n.take(b, c); err != nil {
			return err
		}
	}
	if n.lines.Version() != h.Version {
		return ledger.ErrReload
	}
	n.rev, n.head = kv.ModRevision, h
	return nil
}

// Fence asks etcd for the newest version: see ledger.Fencer.
func (l *log) Fence(ctx context.Context) (int64, error) {
	h, _, err := l.g.fence(ctx, l.board)
	if err != nil {
		return 0, err
	}
	l.mu.Lock()
	life := l.life
	l.mu.Unlock()
	if h == nil || h.Life != life {
		return 0, l.gone()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.need = max(l.need, h.Version)
	return h.Version, nil
}

func (l *log) Close() error {
	if l.closed != nil {
		l.closed()
	}
	return nil
}
