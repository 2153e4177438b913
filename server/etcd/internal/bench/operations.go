package main

import (
	"bytes"
	"errors"
	"fmt"
	"time"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/server/etcd"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
)

// manyBoards is the number of boards of the operations that are measured at size.
const manyBoards = 10_000

// operations measures what an operator does with many boards.
func (b *bench) operations() error {
	prefix := b.prefix()
	took := func(f func() error) (time.Duration, error) {
		begun := time.Now()
		err := f()
		return time.Since(begun), err
	}
	s, err := b.open(prefix)
	if err != nil {
		return err
	}
	var release func()
	var boards []*ledger.Ledger
	making, err := took(func() (err error) {
		boards, release, err = boardsOf(b.ctx, s, "board", manyBoards)
		return err
	})
	for i := 0; err == nil && i < len(boards); i++ {
		_, err = rules.Commit(boards[i], addOne())
	}
	if release != nil {
		release()
	}
	if err = errors.Join(err, s.Close()); err != nil {
		return err
	}
	if s, err = b.open(prefix); err != nil {
		return err
	}
	var file bytes.Buffer
	backup, err := took(func() error {
		_, err := s.Backup(b.ctx, &file)
		return err
	})
	size := file.Len()
	var check, restore time.Duration
	if err == nil {
		check, err = took(func() error { return s.Check(b.ctx, func(c etcd.BoardCheck) { b.bad = b.bad || c.Err != nil }) })
	}
	if err = errors.Join(err, s.Close()); err == nil {
		restore, err = took(func() error {
			_, err := etcd.Restore(b.ctx, etcd.Options{Endpoints: node.Endpoints(b.c.Members), Prefix: b.prefix()}, &file, false)
			return err
		})
	}
	if err != nil {
		return err
	}
	fmt.Printf("| %d boards with one entry each: making them, 32 at once, by one server | %.0f/s |\n", manyBoards, manyBoards/making.Seconds())
	fmt.Printf("| a backup of them, %.1f MB | %.1f s |\n", float64(size)/1e6, backup.Seconds())
	fmt.Printf("| restoring it into an empty store | %.1f s |\n", restore.Seconds())
	fmt.Printf("| `check` of them | %.1f s |\n", check.Seconds())
	return nil
}
