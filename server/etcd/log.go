package etcd

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
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
	g     *group
	board string
	make  bool // create the board if there is none
	// record is the key of the board's group record if the same group has it, else empty.
	record string
	// closed is called when it is.
	closed func()

	mu      sync.Mutex // guards the following fields
	offered []batch    // in order
	unread  bool       // there is more than was offered
	need    int64      // a version that was announced
	removed bool

	// Used by the owner of the log.
	lines journal.Lines
	rev   int64 // of the store, that wrote the head; 0 means none
	head  head
	took  time.Duration
}

var _ ledger.Fencer = (*log)(nil)

// offer stores what the feed delivers: a batch, or a head alone.
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
	l.offered, l.unread = nil, false // what is read is newer
	l.mu.Unlock()
	all, err := l.g.load(ctx, l.board)
	if errors.Is(err, fs.ErrNotExist) {
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
	return l.now(), nil
}

// damage says where the damage is.
func (l *log) damage(err error) error {
	if d, ok := journal.AsDamage(err); ok && d.Path == "" {
		d.Path = string(l.g.keys) + "…/" + l.board
	}
	return err
}

// take returns the offered batches to be read, and whether etcd must be asked for more.
func (l *log) take() (offered []batch, unread, removed bool, need int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	offered, l.offered = l.offered, nil
	unread, l.unread = l.unread, false
	return offered, unread, l.removed, l.need
}

func (l *log) After(h ledger.Head, c journal.Consumer, wait time.Duration) (ledger.Head, error) {
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	offered, unread, removed, need := l.take()
	if removed {
		return h, errRemoved
	}
	n := next{lines: l.lines, rev: l.rev, head: l.head}
	for i := range offered {
		b := &offered[i]
		if b.rev <= n.rev {
			continue
		}
		if b.count > 0 && b.first > n.lines.Version()+1 {
			unread = true
			break
		}
		err := l.g.fill(ctx, l.board, b)
		if err == nil {
			err = n.take(*b, c)
		}
		if err != nil {
			l.doubt()
			return h, l.damage(err)
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

// take reads a batch, or a head alone. The error is ledger.ErrReload if the known state belongs to
// another board, or was forgotten.
func (n *next) take(b batch, c journal.Consumer) (err error) {
	if b.head != nil && b.head.ID != n.head.ID {
		return ledger.ErrReload
	}
	if b.count > 0 {
		if n.lines, err = n.lines.More(b.lines, c); err != nil {
			return err
		}
		n.head.Version, n.head.Size = b.last(), n.head.Size+int64(len(b.lines))
	}
	if b.head != nil {
		n.head = *b.head
	}
	n.rev = b.rev
	return nil
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
	version := n.lines.Version()
	if h.ID != n.head.ID || h.First > version+1 || h.Version < version {
		return ledger.ErrReload
	}
	batches, err := l.g.batches(ctx, l.board, version+1, clientv3.WithRev(resp.Header.Revision))
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
	if h == nil {
		return 0, l.gone()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.need = max(l.need, h.Version)
	return h.Version, nil
}

func (l *log) Append(h ledger.Head, b ledger.Batch) (ledger.Head, error) {
	ctx, cancel := context.WithTimeout(context.Background(), b.Wait)
	defer cancel()
	if b.Count == 0 {
		return h, l.confirm(ctx)
	}
	start := time.Now()
	first := h.Version + 1
	one := batch{id: newBatchID(first), first: first, count: b.Count, lines: b.Lines, at: start.UnixMilli()}
	if len(b.Lines) > together {
		if err := l.writeParts(ctx, &one); err != nil {
			return h, err
		}
	}
	to := l.head
	to.Version, to.End, to.Size = one.last(), journal.EndOf(b.Lines).String(), l.head.Size+int64(len(b.Lines))
	value := one.value()
	batches := l.g.keys.batches(l.board)
	held, says, rev, err := l.g.do(ctx, write{
		cond: []clientv3.Cmp{l.isHead()},
		then: []clientv3.Op{clientv3.OpPut(l.g.keys.head(l.board), to.value()), clientv3.OpPut(l.g.keys.batch(l.board, first), string(value))},
		els: []clientv3.Op{clientv3.OpGet(l.g.keys.head(l.board)),
			clientv3.OpGet(l.g.keys.batch(l.board, first), clientv3.WithRange(clientv3.GetPrefixRangeEnd(batches)), clientv3.WithLimit(8))},
		size: len(value),
	})
	if errors.Is(err, ledger.ErrNotStored) {
		held, rev, err = l.done(ctx, one, err)
	}
	if err != nil {
		return h, err
	}
	if !held {
		if rev, err = l.met(one, says[0].GetResponseRange().Kvs, says[1].GetResponseRange().Kvs); err != nil {
			return h, err
		}
	}
	l.rev, l.head, l.lines = rev, to, l.lines.Advance(b.Lines, b.Count, one.last())
	l.took = time.Since(start)
	return l.now(), nil
}

// done finds out whether a batch exists that etcd reported as refused: it also reports that for the
// write that filled it, which it has done.
func (l *log) done(ctx context.Context, b batch, refusal error) (is bool, rev int64, err error) {
	key := l.g.keys.batch(l.board, b.first)
	resp, err := l.g.get(ctx, key)
	if err != nil {
		return false, 0, fmt.Errorf("%w: %w, and %w", ledger.ErrUncertain, refusal, err)
	}
	for _, kv := range resp.Kvs {
		there, err := readBatch(key, kv.Value)
		if err == nil && there.id == b.id {
			return true, kv.ModRevision, nil
		}
	}
	return false, 0, refusal
}

// isHead is the condition that the head is the known one.
func (l *log) isHead() clientv3.Cmp {
	return clientv3.Compare(clientv3.ModRevision(l.g.keys.head(l.board)), "=", l.rev)
}

// met keeps what is stored where a batch was to go. If it is that batch itself, whose first attempt
// had arrived, it returns the revision.
func (l *log) met(mine batch, heads, batches []*mvccpb.KeyValue) (rev int64, err error) {
	if len(heads) == 0 {
		return 0, l.none()
	}
	h, err := readHead(string(heads[0].Key), heads[0].Value)
	if err != nil {
		return 0, err
	}
	all := make([]batch, len(batches))
	for i, kv := range batches {
		if all[i], err = readBatch(string(kv.Key), kv.Value); err != nil {
			return 0, l.damage(err)
		}
		if all[i].rev = kv.ModRevision; i == 0 && all[i].id == mine.id {
			return kv.ModRevision, nil
		}
	}
	l.g.behind.Add(1)
	if n := len(all); n > 0 && all[0].first == mine.first && all[n-1].last() == h.Version && h.ID == l.head.ID {
		all[n-1].head, all[n-1].rev = &h, heads[0].ModRevision
		for _, b := range all { // so that it need not be read
			l.offer(b)
		}
	} else {
		l.doubt()
	}
	return 0, ledger.ErrBehind
}

// confirm makes sure that the known state is still the newest.
func (l *log) confirm(ctx context.Context) error {
	h, rev, err := l.g.fence(ctx, l.board)
	switch {
	case err != nil:
		return err
	case h == nil:
		return l.gone()
	case rev != l.rev:
		l.doubt()
		return ledger.ErrBehind
	}
	return nil
}

// MayRewrite returns nil: a server that can write can do everything.
func (l *log) MayRewrite() error { return nil }

// Hold and Release do nothing: a write that is behind is refused, so no writer waits.
func (l *log) Hold(time.Duration) error { return nil }
func (l *log) Release()                 {}

func (l *log) Close() error {
	if l.closed != nil {
		l.closed()
	}
	return nil
}
