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
	"golang.org/x/sync/errgroup"

	"github.com/small-pantry/pantry/internal/store"
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
	most := max(some, mostValues)
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
			some = min(2*some, most)
		}
	}
}

const (
	readBytes  = 1 << 20 // about what one read returns
	fewValues  = 16      // that the first read of a range returns, whose values can have a megabyte each, and
	mostValues = 128     // any other
	mostKeys   = 1000    // that a read of a range with small values returns
)

// eachHead iterates over the heads of a group, including tombstones. One that can't be read is empty.
func (g *group) eachHead(ctx context.Context, each func(board string, h head, rev int64) error) error {
	heads := string(g.keys) + "h/"
	_, err := g.walk(ctx, heads, clientv3.GetPrefixRangeEnd(heads), 0, mostKeys, func(key string, value []byte, rev int64) error {
		board, _ := g.keys.boardOf(key)
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

// copiedAtOnce is how many shards are copied at the same time.
const copiedAtOnce = 4

// Backup writes everything in the store, while the servers continue: each shard as of one moment, so that
// each board is as it was at one. It returns the number of keys. The error is journal.ErrBusy if a board was
// moved between groups meanwhile.
func (s *Store) Backup(ctx context.Context, to io.Writer) (keys int, err error) {
	out := bufio.NewWriterSize(to, 1<<20)
	if err := writeLine(out, backupLine{Format: backupFormat}); err != nil {
		return 0, err
	}
	var mu sync.Mutex // guards out, keys and the following two
	alive, moved := map[string]bool{}, map[string]bool{}
	workers, copying := errgroup.WithContext(ctx)
	workers.SetLimit(copiedAtOnce)
	for _, g := range s.groups {
		for _, part := range g.keys.backedUp() {
			workers.Go(func() error {
				c, err := g.copied(copying, part)
				if err != nil {
					return err
				}
				mu.Lock()
				defer mu.Unlock()
				for _, board := range c.boards {
					if alive[board] {
						return fmt.Errorf("%w: back up again", errMoving)
					}
					alive[board] = true
				}
				for _, board := range c.moved {
					moved[board] = true
				}
				keys += c.keys
				_, err = out.Write(c.lines.Bytes())
				return err
			})
		}
	}
	if err := workers.Wait(); err != nil {
		return keys, err
	}
	for board := range moved {
		if alive[board] {
			continue
		}
		if _, _, _, _, err := s.locate(ctx, board); !errors.Is(err, store.ErrNoBoard) { // not removed since
			return keys, errors.Join(err, fmt.Errorf("%w: back up again", errMoving))
		}
	}
	return keys, errors.Join(writeLine(out, backupLine{End: keys}), out.Flush())
}

func writeLine(to io.Writer, l backupLine) error {
	return json.NewEncoder(to).Encode(l)
}

// A copied is a part of a backup.
type copied struct {
	lines  bytes.Buffer
	keys   int
	boards []string // that are in it
	moved  []string // that were moved to another group lately
}

// copied reads ranges of keys as of one moment. If etcd compacts that away meanwhile, it begins again.
func (g *group) copied(ctx context.Context, ranges []string) (c *copied, err error) {
	for {
		c, err = &copied{}, nil
		rev := int64(0)
		for i := 0; i < len(ranges) && err == nil; i++ {
			rev, err = g.walk(ctx, ranges[i], clientv3.GetPrefixRangeEnd(ranges[i]), rev, fewValues, func(key string, value []byte, _ int64) error {
				if board, ok := g.keys.boardOf(key); ok {
					switch h, _ := readHead(key, value); {
					case h.moving():
						return fmt.Errorf("%w: back up again, or finish the move of %s", errMoving, board)
					case h.Moved != nil:
						c.moved = append(c.moved, board)
						return nil
					case h.Gone != "":
						return nil // a tombstone is of no use elsewhere
					}
					c.boards = append(c.boards, board)
				}
				c.keys++
				return writeLine(&c.lines, backupLine{Group: g.name, Key: strings.TrimPrefix(key, string(g.keys)), Value: value})
			})
		}
		if !errors.Is(err, rpctypes.ErrCompacted) || ctx.Err() != nil {
			return c, err
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
	if err := s.g.claim(ctx); errors.Is(err, ErrRestoring) {
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
		if board, ok := g.keys.boardOf(full); ok {
			h, err := readHead(full, value)
			if err != nil {
				return err
			}
			h.ID = draw() + draw()
			value = []byte(h.value())
			if board != tokens {
				puts.add(s.g, s.g.keys.group(board), g.name)
			}
		}
		puts.add(g, full, string(value))
		return puts.ctx.Err()
	})
	if bad := puts.wait(); bad != nil {
		err = bad // it is the cause
	}
	if err != nil {
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
	ctx     context.Context // ends with the first error
	workers *errgroup.Group
	waiting map[*group][]clientv3.Op
	bytes   map[*group]int
}

func newPuts(ctx context.Context) *puts {
	p := &puts{waiting: map[*group][]clientv3.Op{}, bytes: map[*group]int{}}
	p.workers, p.ctx = errgroup.WithContext(ctx)
	p.workers.SetLimit(copiedAtOnce)
	return p
}

// add writes a key soon. After an error, which wait returns, it does nothing.
func (p *puts) add(g *group, key, value string) {
	if p.ctx.Err() != nil {
		return
	}
	p.waiting[g] = append(p.waiting[g], clientv3.OpPut(key, value))
	if p.bytes[g] += len(value); len(p.waiting[g]) >= readsAtOnce || p.bytes[g] >= partSize {
		p.flush(g)
	}
}

func (p *puts) flush(g *group) {
	ops := p.waiting[g]
	delete(p.waiting, g)
	delete(p.bytes, g)
	p.workers.Go(func() error {
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
		return err
	})
}

// wait writes the rest, and waits for all.
func (p *puts) wait() error {
	for g := range p.waiting {
		p.flush(g)
	}
	return p.workers.Wait()
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
