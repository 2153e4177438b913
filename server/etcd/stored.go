package etcd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"go.etcd.io/etcd/api/v3/mvccpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
)

// A stored is everything of a board at one moment.
type stored struct {
	head    head
	rev     int64 // that wrote the head
	image   []byte
	batches []batch // after it
}

func (s stored) read(c journal.Consumer) (journal.Lines, error) {
	lines, err := journal.ReadImage(s.image, c)
	if err != nil {
		return lines, err
	}
	lines.Header().ID, lines.Header().Life = s.head.ID, s.head.Life
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

// load reads everything of a board. The error is fs.ErrNotExist if there is no such board; then s.rev is the
// revision that wrote its tombstone, or 0.
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
	s.rev = resp.Kvs[0].ModRevision
	if s.head, err = readHead(key, resp.Kvs[0].Value); err != nil {
		return s, err
	}
	if s.head.Gone != "" {
		return s, fs.ErrNotExist
	}
	return s, g.fillStored(ctx, &s, board, s.head.Checkpoints[0].Version+1, clientv3.WithRev(resp.Header.Revision))
}

// fillStored reads the newest checkpoint of a head, and the batches from a version on.
func (g *group) fillStored(ctx context.Context, s *stored, board string, from int64, at clientv3.OpOption) (err error) {
	in, point := g.keys.of(board, s.head.Life), s.head.Checkpoints[0]
	if s.image, err = g.parts(ctx, in.checkpoint(point.ID), point.Parts, at); err != nil {
		return err
	}
	s.batches, err = g.batches(ctx, in, from, at)
	return err
}

// parts reads data in parts.
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

// batches reads the batches from a version on.
func (g *group) batches(ctx context.Context, in room, from int64, opts ...clientv3.OpOption) (all []batch, err error) {
	end := clientv3.GetPrefixRangeEnd(in.batches)
	for next := in.batch(from); ; {
		resp, err := g.get(ctx, next, append(opts, clientv3.WithRange(end), clientv3.WithLimit(100))...)
		if err != nil {
			return nil, err
		}
		for _, kv := range resp.Kvs {
			b, err := g.whole(ctx, in, kv, opts...)
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

// whole reads a batch with its parts.
func (g *group) whole(ctx context.Context, in room, kv *mvccpb.KeyValue, opts ...clientv3.OpOption) (batch, error) {
	b, err := readBatch(string(kv.Key), kv.Value)
	if err != nil {
		return b, err
	}
	b.rev = kv.ModRevision
	return b, g.fill(ctx, in, &b, opts...)
}

// fill reads the parts of a batch.
func (g *group) fill(ctx context.Context, in room, b *batch, opts ...clientv3.OpOption) (err error) {
	if b.parts > 0 && len(b.lines) == 0 {
		b.lines, err = g.parts(ctx, in.parts+b.id+"/", b.parts, opts...)
	}
	return err
}

// Past reads the current state.
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
	header.ID, header.Life = all.head.ID, all.head.Life
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

// Back reads the batches from the newest, then the checkpoint.
func (p *past) Back(each func(line []byte) (more bool, err error)) error {
	goOn := true
	note := func(line []byte) (more bool, err error) {
		goOn, err = each(line)
		return goOn, err
	}
	for _, b := range slices.Backward(p.all.batches) {
		// A newline replaces the header, which a batch does not have.
		lines := append([]byte("\n"), b.lines...)
		if err := journal.Backward(bytes.NewReader(lines), int64(len(lines)), note); err != nil || !goOn {
			return err
		}
	}
	return journal.Backward(bytes.NewReader(p.all.image), int64(len(p.all.image)), note)
}

func (p *past) Read(c journal.Consumer) error {
	_, err := p.all.read(c)
	return err
}
