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
	// partSize is how large a part of what is large may be: etcd takes 1.5 MiB at once.
	partSize = 512 << 10
	// mostOffered is how many batches wait to be taken in; further ones are read when they
	// are wanted.
	mostOffered = 1000
	// keptFor is how long the log stays at least, and mostCheckpoints how many are kept at most.
	keptFor         = 10 * time.Minute
	mostCheckpoints = 8
)

// errRemoved is returned for a board that was removed while it was open.
var errRemoved = fmt.Errorf("the board was removed: %w", ledger.ErrClosed)

// A log is that of one board. All servers write to the same; each knows what it has taken
// in, and what the feed has told of since.
type log struct {
	g     *group
	board string
	make  bool // where there is none, it is made
	// closed is called when it is.
	closed func()

	mu      sync.Mutex // guards what follows
	offered []batch    // one behind the other
	unread  bool       // there is more than was offered
	need    int64      // a version that was told of
	removed bool

	// Of whoever uses the log.
	lines journal.Lines
	rev   int64 // of the store, by which the head was written; 0: there is none
	head  head
	took  time.Duration
}

var _ ledger.Fencer = (*log)(nil)

// offer takes what the feed tells of: a batch, or with no lines a head alone.
func (l *log) offer(b batch) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.offered) >= mostOffered {
		l.offered, l.unread = nil, true
		return
	}
	l.offered = append(l.offered, b)
}

// doubt has everything read when it is wanted: the feed may have left something out.
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

// none is the error where there is no head.
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

// damage says where it is.
func (l *log) damage(err error) error {
	if d, ok := journal.AsDamage(err); ok && d.Path == "" {
		d.Path = string(l.g.keys) + "…/" + l.board
	}
	return err
}

// A stored is all of a board at one moment.
type stored struct {
	head    head
	rev     int64 // by which the head was written
	image   []byte
	batches []batch // behind it
}

func (s stored) read(c journal.Consumer) (journal.Lines, error) {
	lines, err := journal.ReadImage(s.image, c)
	if err != nil {
		return lines, err
	}
	lines.Header().ID = s.head.ID
	for _, b := range s.batches {
		if lines, err = lines.More(b.lines, c); err != nil {
			return lines, err
		}
	}
	if lines.Version() != s.head.Version {
		return lines, &journal.DamageError{Line: 1, Reason: fmt.Sprintf("version %d is the newest, and the batches end at %d", s.head.Version, lines.Version())}
	}
	return lines, nil
}

// load reads all of a board. The error is fs.ErrNotExist where there is none.
func (g *group) load(ctx context.Context, board string) (s stored, err error) {
	for {
		s, err = g.loadOnce(ctx, board)
		if !errors.Is(err, rpctypes.ErrCompacted) {
			return s, err
		}
	}
}

func (g *group) loadOnce(ctx context.Context, board string) (s stored, err error) {
	key := g.keys.head(board)
	resp, err := g.get(ctx, key)
	if err != nil {
		return s, err
	}
	if len(resp.Kvs) == 0 {
		return s, fs.ErrNotExist
	}
	if s.head, err = readHead(key, resp.Kvs[0].Value); err != nil {
		return s, err
	}
	s.rev = resp.Kvs[0].ModRevision
	at, point := clientv3.WithRev(resp.Header.Revision), s.head.Checkpoints[0]
	if s.image, err = g.parts(ctx, g.keys.checkpoint(board, point.ID), point.Parts, at); err != nil {
		return s, err
	}
	s.batches, err = g.batches(ctx, board, point.Version+1, at)
	return s, err
}

// parts reads what lies in parts.
func (g *group) parts(ctx context.Context, under string, n int, opts ...clientv3.OpOption) (all []byte, err error) {
	for i := range n {
		resp, err := g.get(ctx, part(under, i), opts...)
		if err != nil {
			return nil, err
		}
		if len(resp.Kvs) == 0 {
			return nil, &journal.DamageError{Path: under, Line: 1, Reason: fmt.Sprintf("part %d of %d is missing", i, n)}
		}
		all = append(all, resp.Kvs[0].Value...)
	}
	return all, nil
}

// batches reads those from a version on.
func (g *group) batches(ctx context.Context, board string, from int64, opts ...clientv3.OpOption) (all []batch, err error) {
	end := clientv3.GetPrefixRangeEnd(g.keys.batches(board))
	for next := g.keys.batch(board, from); ; {
		resp, err := g.get(ctx, next, append(opts, clientv3.WithRange(end), clientv3.WithLimit(100))...)
		if err != nil {
			return nil, err
		}
		for _, kv := range resp.Kvs {
			b, err := g.whole(ctx, board, kv, opts...)
			if err != nil {
				return nil, err
			}
			all = append(all, b)
		}
		if !resp.More {
			return all, nil
		}
		next = string(resp.Kvs[len(resp.Kvs)-1].Key) + "\x00"
	}
}

// whole reads a batch, with its parts.
func (g *group) whole(ctx context.Context, board string, kv *mvccpb.KeyValue, opts ...clientv3.OpOption) (batch, error) {
	b, err := readBatch(string(kv.Key), kv.Value)
	if err != nil {
		return b, err
	}
	b.rev = kv.ModRevision
	return b, g.fill(ctx, board, &b, opts...)
}

// fill reads the parts of a batch.
func (g *group) fill(ctx context.Context, board string, b *batch, opts ...clientv3.OpOption) (err error) {
	if b.parts > 0 && len(b.lines) == 0 {
		b.lines, err = g.parts(ctx, g.keys.parts(board)+b.id+"/", b.parts, opts...)
	}
	return err
}

// take gives what was offered and is to be read, and whether more is to be asked for.
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

// A next is where a log will stand when all of it could be taken in.
type next struct {
	lines journal.Lines
	rev   int64
	head  head
}

// take takes a batch in, or a head alone. The error is ledger.ErrAnew where what is known is
// another board, or was forgotten.
func (n *next) take(b batch, c journal.Consumer) (err error) {
	if b.head != nil && b.head.ID != n.head.ID {
		return ledger.ErrAnew
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

// readOn takes in what etcd has, as of one moment.
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
		return ledger.ErrAnew
	}
	batches, err := l.g.batches(ctx, l.board, version+1, clientv3.WithRev(resp.Header.Revision))
	if errors.Is(err, rpctypes.ErrCompacted) {
		return ledger.ErrAnew
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
		return ledger.ErrAnew
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
		cond: l.isHead(),
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

// done finds out whether a batch is there of which etcd said that it was refused: it says so
// too of what made it full, which it has done.
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

// isHead is the condition under which a write belongs behind what is known.
func (l *log) isHead() clientv3.Cmp {
	return clientv3.Compare(clientv3.ModRevision(l.g.keys.head(l.board)), "=", l.rev)
}

// met keeps what stands where a batch was to go, or finds that it is that batch itself,
// whose first sending had arrived: then it gives by which revision.
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
		for _, b := range all { // so that it need not be asked for
			l.offer(b)
		}
	} else {
		l.doubt()
	}
	return 0, ledger.ErrBehind
}

// confirm makes sure that nobody wrote behind what is known.
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

// writeParts writes the lines of a batch that is too large for one transaction. Until the
// batch itself is there, nothing tells of them; what never will be is swept.
func (l *log) writeParts(ctx context.Context, b *batch) (err error) {
	b.parts, err = l.g.putParts(ctx, l.g.keys.parts(l.board)+b.id+"/", b.lines)
	return err
}

func (g *group) putParts(ctx context.Context, under string, data []byte) (n int, err error) {
	for ; len(data) > 0; n++ {
		size := min(len(data), partSize)
		if err := g.put(ctx, part(under, n), string(data[:size])); err != nil {
			return n, err
		}
		data = data[size:]
	}
	return n, nil
}

// put writes what nothing tells of yet, so that it may be done twice.
func (g *group) put(ctx context.Context, key, value string) error {
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, again) {
		one, cancel := context.WithTimeout(ctx, 4*attempt)
		_, err := g.c.Put(one, key, value)
		cancel()
		if err == nil {
			return nil
		}
		if refused(err) {
			return fmt.Errorf("%w: %w", ledger.ErrNotStored, err)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return noMajority(ctx, err)
		}
	}
}

// Rewrite makes a checkpoint. What was forgotten goes at once with all that is before it;
// else the checkpoint before stays, and the log from it on, for whoever is behind.
func (l *log) Rewrite(h ledger.Head, s ledger.State, wait time.Duration) (ledger.Head, error) {
	if l.rev == 0 && !l.make {
		return h, fs.ErrNotExist
	}
	ctx, cancel := context.WithTimeout(context.Background(), max(wait, patience))
	defer cancel()
	image := journal.Image(s.Header, s.Lines)
	point := checkpoint{ID: draw(), Version: s.Version, Bytes: int64(len(image)), At: time.Now().UnixMilli()}
	var err error
	if point.Parts, err = l.g.putParts(ctx, l.g.keys.checkpoint(l.board, point.ID), image); err != nil {
		return h, err
	}
	to := head{ID: s.Header.ID, Version: s.Version, End: l.head.End, Size: point.Bytes, Checkpoints: []checkpoint{point}}
	if l.rev > 0 && s.Header.ID == l.head.ID {
		to.Checkpoints = append(to.Checkpoints, keepOf(l.head.Checkpoints, time.Now().Add(-l.g.kept))...)
	}
	to.First = to.Checkpoints[len(to.Checkpoints)-1].Version + 1
	batches := l.g.keys.batches(l.board)
	then := []clientv3.Op{clientv3.OpPut(l.g.keys.head(l.board), to.value()),
		clientv3.OpDelete(batches, clientv3.WithRange(batches+number(to.First)))}
	held, says, rev, err := l.g.do(ctx, write{
		cond: l.isHead(), then: then,
		els: []clientv3.Op{clientv3.OpGet(l.g.keys.head(l.board))},
	})
	if err != nil {
		return h, err
	}
	if !held {
		heads := says[0].GetResponseRange().Kvs
		switch {
		case len(heads) == 0:
			return h, l.none()
		case string(heads[0].Value) != to.value(): // else its first sending had arrived
			l.doubt()
			return h, ledger.ErrBehind
		}
		rev = heads[0].ModRevision
	}
	l.rev, l.head = rev, to
	header := s.Header
	l.lines = l.lines.Anew(&header, point.Bytes, s.Count, s.Version)
	l.g.sweep(ctx, l.board, to, rev)
	return l.now(), nil
}

// keepOf gives those of the checkpoints before a new one that are kept: the newest, and those
// from which on the log reaches back to a time.
func keepOf(before []checkpoint, since time.Time) []checkpoint {
	n := 1
	for n < min(len(before), mostCheckpoints-1) && before[n-1].At > since.UnixMilli() {
		n++
	}
	return before[:min(n, len(before))]
}

// sweep removes what no head tells of any more: parts of batches before the first that is
// kept, and checkpoints that were begun before the newest was done, whose writers are behind
// it. What it leaves for now goes with the next.
func (g *group) sweep(ctx context.Context, board string, h head, rev int64) {
	parts := g.keys.parts(board)
	_, _ = g.c.Delete(ctx, parts, clientv3.WithRange(parts+number(h.First)))
	under := g.keys.checkpoints(board)
	resp, err := g.c.Get(ctx, under, clientv3.WithPrefix(), clientv3.WithKeysOnly(), clientv3.WithMaxCreateRev(rev))
	if err != nil {
		return
	}
	used := map[string]bool{}
	for _, c := range h.Checkpoints {
		used[c.ID] = true
	}
	for _, kv := range resp.Kvs {
		if id := string(kv.Key[len(under) : len(kv.Key)-5]); !used[id] {
			used[id] = true
			_, _ = g.c.Delete(ctx, under+id+"/", clientv3.WithPrefix())
		}
	}
}

// Past reads what there is now.
func (l *log) Past(ledger.Head) (ledger.Past, error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	all, err := l.g.load(ctx, l.board)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, l.none()
	}
	if err != nil {
		return nil, err
	}
	header, err := journal.HeaderOf(all.image)
	if err != nil {
		return nil, l.damage(err)
	}
	header.ID = all.head.ID
	return &past{all, &header}, nil
}

// A past is what was stored at one moment.
type past struct {
	all    stored
	header *journal.Header
}

func (p *past) Header() *journal.Header { return p.header }
func (p *past) Version() int64          { return p.all.head.Version }
func (p *past) Close() error            { return nil }

func (p *past) Read(c journal.Consumer) error {
	_, err := p.all.read(c)
	return err
}

// MayRewrite is nil: whoever may write may do all.
func (l *log) MayRewrite() error { return nil }

// Hold and Release do nothing: a write that is behind is refused, and nobody is held up.
func (l *log) Hold(time.Duration) error { return nil }
func (l *log) Release()                 {}

func (l *log) Close() error {
	if l.closed != nil {
		l.closed()
	}
	return nil
}
