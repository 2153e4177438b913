package etcd

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"github.com/cenkalti/backoff/v5"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// A line of a backup. The first describes the backup, and the last says that it is complete. The group
// records are not in it, since the heads say in which groups the boards are.
type backupLine struct {
	Format string `json:"format,omitempty"`
	Group  string `json:"group,omitempty"` // of the key; empty means the first
	Key    string `json:"key,omitempty"`   // without the prefix
	Value  []byte `json:"value,omitempty"`
	End    int    `json:"end,omitempty"` // the number of keys
}

const backupFormat = "small-pantry-etcd/1"

var (
	// ErrNoBackup is returned for a file that is not a complete backup.
	ErrNoBackup = errors.New("this is not a complete backup")
	// ErrNotEmpty is returned if data would be replaced.
	ErrNotEmpty = errors.New("there are boards already")
	// ErrServing is returned for calls that are not possible while servers use the store.
	ErrServing = errors.New("servers use the store: stop them first")
	// ErrRestoring is returned for a store whose restore was interrupted.
	ErrRestoring = errors.New("the restore of this store was interrupted: restore it again")
)

// walk iterates over the keys of a range, some at a time, as of one revision of etcd (0 means the
// current one), and returns the revision.
func (g *group) walk(ctx context.Context, from, end string, rev int64, some int, each func(key string, value []byte, rev int64) error) (int64, error) {
	for {
		opts := []clientv3.OpOption{clientv3.WithRange(end), clientv3.WithLimit(int64(some))}
		if rev > 0 {
			opts = append(opts, clientv3.WithRev(rev))
		}
		one, cancel := context.WithTimeout(ctx, patience)
		resp, err := g.get(one, from, opts...)
		cancel()
		if err != nil {
			return rev, err
		}
		if rev == 0 {
			rev = resp.Header.Revision
		}
		size := 0
		for _, kv := range resp.Kvs {
			size += len(kv.Value)
			if err := each(string(kv.Key), kv.Value, kv.ModRevision); err != nil {
				return rev, err
			}
		}
		if !resp.More {
			return rev, nil
		}
		from = string(resp.Kvs[len(resp.Kvs)-1].Key) + "\x00"
		switch { // a value can have a megabyte, or a few bytes
		case size > readBytes:
			some = max(1, some/2)
		case size < readBytes/4:
			some = min(2*some, mostKeys)
		}
	}
}

const (
	readBytes = 1 << 20 // about what one read returns
	fewKeys   = 16      // that the first read of a range returns, and
	mostKeys  = 1000    // any other
)

// eachHead iterates over the heads of a group, including tombstones. One that can't be read is empty.
func (g *group) eachHead(ctx context.Context, each func(board string, h head, rev int64) error) error {
	heads := string(g.keys) + "h/"
	_, err := g.walk(ctx, heads, clientv3.GetPrefixRangeEnd(heads), 0, mostKeys, func(key string, value []byte, rev int64) error {
		_, board, _ := strings.Cut(key[len(heads):], "/")
		h, _ := readHead(key, value)
		return each(board, h, rev)
	})
	return err
}

// boards returns the names of everything in a group, including the tokens, in order.
func (g *group) boards(ctx context.Context) (names []string, err error) {
	err = g.eachHead(ctx, func(board string, h head, _ int64) error {
		if h.Gone == "" {
			names = append(names, board)
		}
		return nil
	})
	slices.Sort(names)
	return names, err
}

// atOnceCopied is how many shards are copied at the same time.
const atOnceCopied = 4

// Backup writes everything in the store, while the servers continue: each shard as of one moment, so that
// each board is as it was at one. It returns the number of keys.
func (s *Store) Backup(ctx context.Context, to io.Writer) (keys int, err error) {
	out := bufio.NewWriterSize(to, 1<<20)
	if err := writeLine(out, backupLine{Format: backupFormat}); err != nil {
		return 0, err
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	type task struct {
		g     *group
		shard int
	}
	todo := make(chan task)
	var mu sync.Mutex // guards out and keys
	var all sync.WaitGroup
	for range atOnceCopied {
		all.Go(func() {
			for one := range todo {
				lines, n, err := one.g.copyShard(ctx, one.shard)
				mu.Lock()
				if err == nil {
					_, err = out.Write(lines)
				}
				keys += n
				mu.Unlock()
				if err != nil {
					stop(err)
				}
			}
		})
	}
	for _, g := range s.groups {
		for i := -1; i < shards && ctx.Err() == nil; i++ { // -1: what belongs to no board
			todo <- task{g, i}
		}
	}
	close(todo)
	all.Wait()
	if err := context.Cause(ctx); err != nil {
		return keys, err
	}
	return keys, errors.Join(writeLine(out, backupLine{End: keys}), out.Flush())
}

func writeLine(to io.Writer, l backupLine) error {
	return json.NewEncoder(to).Encode(l)
}

// copyShard returns the lines of a backup for a shard, as of one moment. If etcd compacts that away
// meanwhile, it begins again.
func (g *group) copyShard(ctx context.Context, shard int) (lines []byte, keys int, err error) {
	under := []string{g.keys.admin(), g.keys.tokens()}
	if shard >= 0 {
		under = under[:0]
		for _, kind := range []byte{'h', 'l', 'c', 'p'} {
			under = append(under, g.keys.shard(kind, shard))
		}
	}
	for {
		var out bytes.Buffer
		rev := int64(0)
		keys, err = 0, nil
		for _, from := range under {
			if err == nil {
				rev, err = g.walk(ctx, from, clientv3.GetPrefixRangeEnd(from), rev, fewKeys, func(key string, value []byte, _ int64) error {
					if shard >= 0 && from == under[0] {
						h, _ := readHead(key, value)
						if h.moving() {
							return fmt.Errorf("%w; back up again, or first finish the move of %s", errMoving, key)
						}
						if h.Gone != "" {
							return nil // a tombstone is of no use elsewhere
						}
					}
					keys++
					return writeLine(&out, backupLine{Group: g.name, Key: strings.TrimPrefix(key, string(g.keys)), Value: value})
				})
			}
		}
		if !errors.Is(err, rpctypes.ErrCompacted) || ctx.Err() != nil {
			return out.Bytes(), keys, err
		}
	}
}

// CheckBackup reports whether a backup is complete, and its number of keys. The error is
// ErrNoBackup.
func CheckBackup(from io.Reader) (keys int, err error) {
	return readBackup(from, func(string, string, []byte) error { return nil })
}

func readBackup(from io.Reader, each func(group, key string, value []byte) error) (keys int, err error) {
	dec := json.NewDecoder(bufio.NewReaderSize(from, 1<<20))
	for first := true; ; first = false {
		var l backupLine
		err := dec.Decode(&l)
		switch {
		case err != nil:
			return keys, fmt.Errorf("%w: %w", ErrNoBackup, err)
		case first && l.Format == backupFormat:
		case first:
			return 0, fmt.Errorf("%w: its first line is not that of a backup", ErrNoBackup)
		case l.End > 0:
			if l.End != keys {
				return keys, fmt.Errorf("%w: it has %d keys, and its last line says %d", ErrNoBackup, keys, l.End)
			}
			return keys, nil
		case l.Key == "":
			return keys, fmt.Errorf("%w: a line in it has no key", ErrNoBackup)
		default:
			keys++
			if err := each(l.Group, l.Key, l.Value); err != nil {
				return keys, err
			}
		}
	}
}

// Restore replaces the content of the store by a backup, which CheckBackup must have found
// complete. Without replace the store must be empty, or what an interrupted Restore left. Each board gets
// another id, so every earlier mark is answered by the whole board. The errors are ErrServing, ErrNotEmpty and
// ErrNoBackup.
func Restore(ctx context.Context, o Options, from io.Reader, replace bool) (keys int, err error) {
	groups, err := connect(o)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, disconnect(groups)) }()
	s := &Store{g: groups[0], groups: groups}
	if _, _, err := s.g.claim(ctx); errors.Is(err, ErrRestoring) {
		replace = true
	}
	if err := s.unused(ctx, replace); err != nil {
		return 0, err
	}
	for _, g := range groups {
		if err := g.mark(ctx, storeMark{Format: format, Random: draw(), Restoring: true}); err != nil {
			return 0, err
		}
		for _, what := range []string{"a", "c/", "g/", "h/", "l/", "p/", "t/"} {
			if _, err := g.c.Delete(ctx, string(g.keys)+what, clientv3.WithPrefix()); err != nil {
				return 0, g.noMajority(ctx, err)
			}
		}
	}
	puts := newPuts(ctx)
	keys, err = readBackup(from, func(group, key string, value []byte) error {
		g, err := s.called(group)
		if err != nil {
			return err
		}
		full := string(g.keys) + key
		if rest, ok := strings.CutPrefix(key, "h/"); ok {
			_, board, _ := strings.Cut(rest, "/")
			h, err := readHead(full, value)
			if err != nil {
				return err
			}
			h.ID = draw() + draw()
			value = []byte(h.value())
			if board != tokens {
				if err := puts.add(s.g, s.g.keys.group(board), g.name); err != nil {
					return err
				}
			}
		}
		return puts.add(g, full, string(value))
	})
	if err = errors.Join(err, puts.wait()); err != nil {
		return keys, err
	}
	for _, g := range groups {
		err = errors.Join(err, g.mark(ctx, storeMark{Format: format, Random: draw()}))
	}
	return keys, err
}

// Puts writes keys that nothing refers to yet, many in a transaction and several transactions at the same
// time. It is used by one goroutine.
type puts struct {
	ctx     context.Context
	stop    context.CancelCauseFunc
	waiting map[*group][]clientv3.Op
	bytes   map[*group]int
	free    chan struct{}
	all     sync.WaitGroup
}

func newPuts(ctx context.Context) *puts {
	p := &puts{waiting: map[*group][]clientv3.Op{}, bytes: map[*group]int{}, free: make(chan struct{}, atOnceCopied)}
	p.ctx, p.stop = context.WithCancelCause(ctx)
	return p
}

// add writes a key soon. The error can be of an earlier one.
func (p *puts) add(g *group, key, value string) error {
	p.waiting[g] = append(p.waiting[g], clientv3.OpPut(key, value))
	if p.bytes[g] += len(value); len(p.waiting[g]) >= readsAtOnce || p.bytes[g] >= partSize {
		p.flush(g)
	}
	return context.Cause(p.ctx)
}

func (p *puts) flush(g *group) {
	ops := p.waiting[g]
	delete(p.waiting, g)
	delete(p.bytes, g)
	p.free <- struct{}{}
	p.all.Go(func() {
		defer func() { <-p.free }()
		ctx, cancel := context.WithTimeout(p.ctx, 2*patience)
		defer cancel()
		_, err := persist(ctx, g, func() (*clientv3.TxnResponse, error) {
			one, cancel := context.WithTimeout(ctx, 4*attempt)
			defer cancel()
			resp, err := g.c.Txn(one).Then(ops...).Commit()
			if refused(err) {
				err = backoff.Permanent(notStored(err))
			}
			return resp, err
		})
		if err != nil {
			p.stop(err)
		}
	})
}

// wait writes the rest, and waits for all.
func (p *puts) wait() error {
	for g := range p.waiting {
		p.flush(g)
	}
	p.all.Wait()
	defer p.stop(nil)
	return context.Cause(p.ctx)
}

// unused checks that no server uses the store, and that it is empty if it must be.
func (s *Store) unused(ctx context.Context, replace bool) error {
	for _, g := range s.groups {
		if err := g.unused(ctx, replace); err != nil {
			return err
		}
	}
	return nil
}

func (g *group) unused(ctx context.Context, replace bool) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	resp, err := g.get(ctx, g.keys.servers(), clientv3.WithPrefix(), clientv3.WithCountOnly())
	if err != nil {
		return err
	}
	if resp.Count > 0 {
		return ErrServing
	}
	if replace {
		return nil
	}
	return g.eachHead(ctx, func(_ string, h head, _ int64) error {
		if h.Gone == "" {
			return ErrNotEmpty
		}
		return nil
	})
}

// mark stores the mark of the store.
func (g *group) mark(ctx context.Context, m storeMark) error {
	raw, err := json.Marshal(m)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*patience)
	defer cancel()
	return g.put(ctx, g.keys.store(), string(raw))
}
