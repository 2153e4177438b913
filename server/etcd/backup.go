package etcd

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	clientv3 "go.etcd.io/etcd/client/v3"
)

// A line of a backup. The first describes the backup, and the last says that it is complete.
type backupLine struct {
	Format   string `json:"format,omitempty"`
	Group    string `json:"group,omitempty"` // the group of the following keys; empty means the first
	Revision int64  `json:"revision,omitempty"`
	Key      string `json:"key,omitempty"` // without the prefix
	Value    []byte `json:"value,omitempty"`
	End      int    `json:"end,omitempty"` // the number of keys
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

// walk iterates over the keys of a range, a few at a time, as of one revision of etcd (0 means the
// current one), and returns the revision.
func (g *group) walk(ctx context.Context, from, end string, rev, some int64, each func(key string, value []byte) error) (int64, error) {
	for {
		opts := []clientv3.OpOption{clientv3.WithRange(end), clientv3.WithLimit(some)}
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
		for _, kv := range resp.Kvs {
			if err := each(string(kv.Key), kv.Value); err != nil {
				return rev, err
			}
		}
		if !resp.More {
			return rev, nil
		}
		from = string(resp.Kvs[len(resp.Kvs)-1].Key) + "\x00"
	}
}

// few is the number of keys per read, which can have 1 MiB each.
const few = 32

// boards returns the names of everything in a group, including the tokens.
func (g *group) boards(ctx context.Context) (names []string, err error) {
	heads := g.keys.heads()
	_, err = g.walk(ctx, heads, clientv3.GetPrefixRangeEnd(heads), 0, 1000, func(key string, _ []byte) error {
		names = append(names, key[len(heads):])
		return nil
	})
	return names, err
}

// Backup writes everything in the store, each group as of one moment, while the servers continue.
// It returns the number of keys.
func (s *Store) Backup(ctx context.Context, to io.Writer) (keys int, err error) {
	out := bufio.NewWriterSize(to, 1<<20)
	enc := json.NewEncoder(out)
	for _, g := range s.groups {
		resp, bad := g.get(ctx, g.keys.store())
		if bad != nil {
			return 0, bad
		}
		if err := enc.Encode(backupLine{Format: backupFormat, Group: g.name, Revision: resp.Header.Revision}); err != nil {
			return 0, err
		}
		prefix := string(g.keys)
		_, err = g.walk(ctx, prefix, clientv3.GetPrefixRangeEnd(prefix), resp.Header.Revision, few, func(key string, value []byte) error {
			if strings.HasPrefix(key, g.keys.servers()) {
				return nil
			}
			keys++
			return enc.Encode(backupLine{Key: strings.TrimPrefix(key, prefix), Value: value})
		})
		if err != nil {
			break
		}
	}
	if err == nil {
		err = enc.Encode(backupLine{End: keys})
	}
	return keys, errors.Join(err, out.Flush())
}

// CheckBackup reports whether a backup is complete, and its number of keys. The error is
// ErrNoBackup.
func CheckBackup(from io.Reader) (keys int, err error) {
	return readBackup(from, func(string, string, []byte) error { return nil })
}

func readBackup(from io.Reader, each func(group, key string, value []byte) error) (keys int, err error) {
	dec := json.NewDecoder(bufio.NewReaderSize(from, 1<<20))
	group := ""
	for first := true; ; first = false {
		var l backupLine
		err := dec.Decode(&l)
		switch {
		case err != nil:
			return keys, fmt.Errorf("%w: %w", ErrNoBackup, err)
		case l.Format == backupFormat:
			group = l.Group
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
			if err := each(group, l.Key, l.Value); err != nil {
				return keys, err
			}
		}
	}
}

// Restore replaces the content of the store by a backup, which CheckBackup must have found
// complete. Without replace the store must be empty. Each board gets another id, so every earlier
// mark is answered by the whole board. The errors are ErrServing, ErrNotEmpty and ErrNoBackup.
func Restore(ctx context.Context, o Options, from io.Reader, replace bool) (keys int, err error) {
	groups, err := connect(o)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, disconnect(groups)) }()
	s := &Store{g: groups[0], groups: groups}
	if err := s.unused(ctx, replace); err != nil {
		return 0, err
	}
	for _, g := range groups {
		if err := g.mark(ctx, storeMark{Format: format, Random: draw(), Restoring: true}); err != nil {
			return 0, err
		}
		for _, what := range []string{"a", "c/", "g/", "h/", "l/", "p/"} {
			if _, err := g.c.Delete(ctx, string(g.keys)+what, clientv3.WithPrefix()); err != nil {
				return 0, noMajority(ctx, err)
			}
		}
	}
	keys, err = readBackup(from, func(group, key string, value []byte) error {
		g, err := s.called(group)
		if err != nil {
			return err
		}
		full := string(g.keys) + key
		switch {
		case full == g.keys.store():
			return nil
		case strings.HasPrefix(full, g.keys.heads()):
			h, err := readHead(full, value)
			if err != nil {
				return err
			}
			h.ID = draw() + draw()
			value = []byte(h.value())
		}
		one, cancel := context.WithTimeout(ctx, 2*patience)
		defer cancel()
		return g.put(one, full, string(value))
	})
	if err != nil {
		return keys, err
	}
	for _, g := range groups {
		err = errors.Join(err, g.mark(ctx, storeMark{Format: format, Random: draw()}))
	}
	return keys, err
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
	for _, q := range []struct {
		under string
		err   error
		may   bool
	}{{g.keys.servers(), ErrServing, false}, {g.keys.heads(), ErrNotEmpty, replace}} {
		resp, err := g.get(ctx, q.under, clientv3.WithPrefix(), clientv3.WithCountOnly())
		if err != nil {
			return err
		}
		if resp.Count > 0 && !q.may {
			return q.err
		}
	}
	return nil
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
