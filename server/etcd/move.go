package etcd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/google/renameio/v2/maybe"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/store"
)

// A Moved is a board that was moved.
type Moved struct {
	Board   string
	Version int64
	Bytes   int64
}

// Import stores the boards of a data directory, with history, tokens and marks, in etcd. No server
// can be using the directory, which is not changed. The errors are store.ErrInUse, ErrServing,
// ErrNotEmpty, and those of a board that can't be read. After an error nothing is stored.
func (s *Store) Import(ctx context.Context, data string, each func(Moved)) (err error) {
	if _, err := os.Stat(filepath.Join(data, "boards")); err != nil {
		return fmt.Errorf("there are no boards: %w", err)
	}
	if err := s.unused(ctx, false); err != nil {
		return err
	}
	files, err := store.OpenFiles(data, store.FileOptions{Problem: s.problem})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, files.Close()) }()
	boards, err := files.Boards(ctx, "", 0)
	if err != nil {
		return err
	}
	var put []string
	defer func() {
		if err == nil {
			return
		}
		ctx := context.WithoutCancel(ctx)
		for _, name := range put {
			err = errors.Join(err, s.remove(ctx, name, ""))
		}
	}()
	for _, b := range boards {
		l, release, err := files.Board(ctx, b.Board, false)
		if err != nil {
			return err
		}
		moved, err := s.putBoard(ctx, b.Board, l)
		release()
		if err != nil {
			return fmt.Errorf("the board %s: %w", b.Board, err)
		}
		put = append(put, b.Board)
		each(moved)
	}
	l, err := files.Tokens(ctx)
	if err == nil {
		if _, err = s.putBoard(ctx, tokens, l); err == nil {
			put = append(put, tokens)
		}
	}
	if err != nil {
		return fmt.Errorf("the tokens: %w", err)
	}
	if raw, bad := os.ReadFile(filepath.Join(data, "admin-token")); bad == nil {
		err = s.AdminHash(ctx, string(raw), false)
	}
	return err
}

// putBoard stores the content of a ledger's file, which has no writer, where there is no such board.
func (s *Store) putBoard(ctx context.Context, name string, l *ledger.Ledger) (m Moved, err error) {
	image, err := os.ReadFile(l.Path())
	if err != nil {
		return m, err
	}
	p, err := s.find(ctx, name)
	if err != nil {
		return m, err
	}
	if p.head != nil {
		return m, ErrNotEmpty
	}
	how := &making{base: p.rev}
	if name == tokens {
		if err = p.g.putTokens(ctx, l); err != nil {
			return m, err
		}
	} else {
		if how, err = s.place(ctx, name, &p); err != nil {
			return m, err
		}
	}
	snap := l.Snapshot()
	commit := snap.Commit()
	snap.Release()
	g, key := p.g, p.g.keys.head(name)
	point := checkpoint{ID: draw(), Version: commit.Version, Bytes: int64(len(image)), At: time.Now().UnixMilli()}
	if point.Parts, err = g.putParts(ctx, g.keys.of(name, l.Life()).checkpoint(point.ID), image); err != nil {
		return m, err
	}
	to := head{Life: l.Life(), ID: commit.ID, Version: commit.Version, End: commit.End.String(), First: commit.Version + 1, Size: point.Bytes, Checkpoints: []checkpoint{point}}
	held, says, _, err := g.do(ctx, how.write(write{
		key: key, cond: []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(key), "=", how.base)},
		then: []clientv3.Op{clientv3.OpPut(key, to.value())}, els: []clientv3.Op{clientv3.OpGet(key)},
	}))
	if err == nil && !held {
		kvs := says[0].GetResponseRange().Kvs
		if len(kvs) == 0 || string(kvs[0].Value) != to.value() { // otherwise its first attempt had arrived
			err = ErrNotEmpty
		}
	}
	return Moved{name, commit.Version, point.Bytes}, err
}

// putTokens writes the keys of the tokens in a ledger.
func (g *group) putTokens(ctx context.Context, l *ledger.Ledger) error {
	puts := newPuts(ctx)
	snap := l.Snapshot()
	defer snap.Release()
	for e := range snap.Entries("", "") {
		puts.add(g, g.keys.tokens()+e.Name, "")
	}
	return puts.wait()
}

// Export writes all boards, with history, tokens and marks, into an empty data directory, for a
// server with files. Servers must be stopped, because later writes would be missing. The errors are
// ErrServing and ErrNotEmpty.
func (s *Store) Export(ctx context.Context, data string, each func(Moved)) (err error) {
	if err := s.unused(ctx, true); err != nil {
		return err
	}
	files, err := store.OpenFiles(data, store.FileOptions{Problem: s.problem})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, files.Close()) }()
	if there, err := files.Boards(ctx, "", 1); err != nil || len(there) > 0 {
		return errors.Join(err, fmt.Errorf("%s: %w", data, ErrNotEmpty))
	}
	access := filepath.Join(data, "access")
	if err := journal.MakeDir(journal.OS, access); err != nil {
		return err
	}
	for _, g := range s.groups {
		if err := g.export(ctx, data, each); err != nil {
			return err
		}
	}
	l, err := files.Tokens(ctx)
	if err == nil {
		err = s.dropVoid(ctx, l)
	}
	return errors.Join(err, journal.SyncDir(journal.OS, filepath.Join(data, "boards")), journal.SyncDir(journal.OS, access))
}

// export writes the boards of the group.
func (g *group) export(ctx context.Context, data string, each func(Moved)) error {
	names, err := g.boards(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		one, cancel := context.WithTimeout(ctx, 2*patience)
		all, err := g.load(one, name)
		cancel()
		if err != nil {
			return fmt.Errorf("the board %s: %w", name, err)
		}
		file, err := all.file()
		if err != nil {
			return fmt.Errorf("the board %s: %w", name, err)
		}
		path := journal.DataPath(filepath.Join(data, "boards"), name)
		if name == tokens {
			path = journal.DataPath(filepath.Join(data, "access"), "tokens")
		}
		if err := maybe.WriteFile(path, file, 0o600); err != nil {
			return err
		}
		if name != tokens {
			each(Moved{name, all.head.Version, int64(len(file))})
		}
	}
	return nil
}

// file returns the stored data in the form of a file.
func (s stored) file() ([]byte, error) {
	header, err := journal.HeaderOf(s.image)
	if err != nil {
		return nil, err
	}
	header.ID, header.Life = s.head.ID, s.head.Life
	_, lines, _ := bytes.Cut(s.image, []byte("\n"))
	out := journal.Image(header, lines)
	for _, b := range s.batches {
		out = append(out, b.lines...)
	}
	return out, nil
}
