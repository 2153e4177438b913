package store_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/internal/test/suite"
	"github.com/small-pantry/pantry/value"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func TestSuiteOnFiles(t *testing.T) {
	t.Parallel()
	suite.Run(t, suite.CodeOf, func(t testing.TB) suite.Board {
		data := t.TempDir()
		var s *store.Files
		open := func() (err error) {
			s, err = store.OpenFiles(data, store.FileOptions{Ledger: ledger.Options{Twice: true}})
			return err
		}
		require.NoError(t, open())
		t.Cleanup(func() { assert.NoError(t, s.Close()) })
		return suite.OnLedger{
			With: func(f func(l *ledger.Ledger) error) error {
				l, release, err := s.Board(t.Context(), "rowan-street", true)
				if err != nil {
					return err
				}
				defer release()
				return f(l)
			},
			Again: func() error { return errors.Join(s.Close(), open()) },
		}
	})
}

func put(name string, n int64) []entry.Edit {
	return []entry.Edit{{Name: name, Op: value.Op{Verb: value.Put, Operand: value.Int(n)}}}
}

func TestFiles(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s, err := store.OpenFiles(data, store.FileOptions{})
	require.NoError(t, err)
	_, err = store.OpenFiles(data, store.FileOptions{})
	assert.ErrorIs(t, err, store.ErrInUse)
	ctx := t.Context()
	_, _, err = s.Board(ctx, "elm-street", false)
	assert.ErrorIs(t, err, store.ErrNoBoard)
	_, _, err = s.Board(ctx, "Elm Street", true)
	assert.ErrorIs(t, err, value.ErrInvalid)
	for i, name := range []string{"rowan-street", "elm-street", "elm-street2", "elm.street"} {
		l, release, err := s.Board(ctx, name, true)
		require.NoError(t, err)
		for v := range i + 1 {
			_, err = rules.Commit(l, rules.Call{Edits: put("n", int64(v))})
			require.NoError(t, err)
		}
		release()
		release() // once is enough
	}
	told := func(infos []store.Info, err error) (out []string) {
		require.NoError(t, err)
		for _, i := range infos {
			assert.Positive(t, i.Bytes)
			out = append(out, fmt.Sprint(i.Board, " ", i.Version))
		}
		return out
	}
	assert.Equal(t, []string{"elm-street 2", "elm-street2 3", "elm.street 4", "rowan-street 1"}, told(s.Boards(ctx, "", 0)))
	assert.Equal(t, []string{"elm-street2 3"}, told(s.Boards(ctx, "elm-street", 1)))
	require.NoError(t, s.Close())
	_, _, err = s.Board(ctx, "rowan-street", false)
	assert.ErrorIs(t, err, ledger.ErrClosed)
}

// The directories of a server that is new are there after a power cut, as what it answers is.
func TestDirectoriesAreSynced(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	data := filepath.Join(root, "garden", "data")
	boards := filepath.Join(data, "boards")
	disk := &simdisk.DirRecorder{Disk: simdisk.New()}
	hooks.Set(boards, hooks.Setting{Disk: disk})
	defer hooks.Unset(boards)
	s, err := store.OpenFiles(data, store.FileOptions{})
	require.NoError(t, err)
	assert.Equal(t, []string{root, filepath.Join(root, "garden"), data}, disk.Synced)
	disk.Synced = nil
	_, err = s.Tokens(t.Context())
	require.NoError(t, err)
	assert.Equal(t, data, disk.Synced[0], "in which that of the tokens is made")
	require.NoError(t, s.Close())
}

// A board that is slow to open delays no other board, and is opened once for all callers. One that
// can't be opened is tried again.
func TestOneLatchABoard(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	holds, opening := make(chan struct{}), make(chan struct{}, 10)
	s, err := store.OpenFiles(data, store.FileOptions{})
	require.NoError(t, err)
	l, release, err := s.Board(t.Context(), "slow", true)
	require.NoError(t, err)
	_, err = rules.Commit(l, rules.Call{Edits: put("n", 1)})
	require.NoError(t, err)
	path := l.Path()
	release()
	require.NoError(t, s.Close())
	// A torn end is reported as a problem while the file is opened.
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"version":2`)
	require.NoError(t, errors.Join(err, f.Close()))
	s, err = store.OpenFiles(data, store.FileOptions{Problem: func(board string, _ error) {
		opening <- struct{}{}
		<-holds
	}})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()

	var all sync.WaitGroup
	ledgers := make([]*ledger.Ledger, 5)
	for i := range ledgers {
		all.Go(func() {
			l, release, err := s.Board(t.Context(), "slow", true)
			if assert.NoError(t, err) {
				ledgers[i] = l
				release()
			}
		})
	}
	<-opening
	_, other, err := s.Board(t.Context(), "quick", true)
	require.NoError(t, err, "another board is there meanwhile")
	other()
	short, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = s.Board(short, "slow", true)
	assert.ErrorIs(t, err, context.Canceled, "a caller whose context ends waits no longer")
	close(holds)
	all.Wait()
	for _, l := range ledgers {
		assert.Same(t, ledgers[0], l)
	}
	assert.Empty(t, opening, "it was opened once")

	bad := filepath.Join(data, "boards", "bad.jsonl")
	require.NoError(t, os.WriteFile(bad, []byte("{\"format\":\"small-pantry/1\"}\n"), 0o600))
	_, _, err = s.Board(t.Context(), "bad", false)
	_, damaged := journal.AsDamage(err)
	assert.True(t, damaged, "%v", err)
	require.NoError(t, os.Remove(bad))
	_, release, err = s.Board(t.Context(), "bad", true)
	require.NoError(t, err)
	release()
}

// A board without holders is unloaded after a while, and loaded for the next caller. One with holders stays.
func TestUnloading(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testUnloading)
}

func testUnloading(t *testing.T) {
	s, err := store.OpenFiles(t.TempDir(), store.FileOptions{Idle: 20 * time.Millisecond})
	require.NoError(t, err)
	_, release, err := s.Board(t.Context(), "held", true)
	require.NoError(t, err)
	var left []*ledger.Ledger
	for i := range 3 {
		l, release, err := s.Board(t.Context(), "left", true)
		require.NoError(t, err)
		_, err = rules.Commit(l, rules.Call{Edits: put("n", int64(i))})
		require.NoError(t, err)
		assert.EqualValues(t, i+1, l.Version(), "nothing is lost between")
		left = append(left, l)
		release()
		require.Eventually(t, func() bool { return errors.Is(l.Refresh(), ledger.ErrClosed) }, hang.Patience, time.Millisecond)
	}
	assert.False(t, slices.Contains(left[1:], left[0]))
	release()
	held, release, err := s.Board(t.Context(), "held", true)
	require.NoError(t, err)
	time.Sleep(100 * time.Millisecond) // what was to unload it after the first release has come
	_, err = rules.Commit(held, rules.Call{Edits: put("n", 1)})
	assert.NoError(t, err, "it is held again")
	release()
	// Coming and going at any moment meets no ledger that is being closed.
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for i := range 50 {
				l, release, err := s.Board(t.Context(), "busy", true)
				if !assert.NoError(t, err) {
					return
				}
				_, err = rules.Commit(l, rules.Call{Edits: []entry.Edit{{Name: "n", Op: value.Op{Verb: value.Add, Operand: value.Int(1)}}}})
				assert.NoError(t, err)
				release()
				time.Sleep(time.Duration(i%5*10) * time.Millisecond) // now shorter, now longer than it stays
			}
		})
	}
	all.Wait()
	l, release, err := s.Board(t.Context(), "busy", true)
	require.NoError(t, err)
	n, _ := l.Node("n").Record().Value.AsInt()
	assert.EqualValues(t, 200, n)
	release()
	require.NoError(t, s.Close())
}

// The caller that creates a board gets it, also beside a reader of that name.
func TestCreateBesideAReader(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testCreateBesideAReader)
}

func testCreateBesideAReader(t *testing.T) {
	looking, goOn := make(chan struct{}), make(chan struct{})
	made := map[string]*ledger.Ledger{}
	s := store.NewShelf(0, func(name string, create bool) (*ledger.Ledger, bool, error) {
		if !create {
			close(looking)
			<-goOn
			return nil, false, store.ErrNoBoard
		}
		l, err := ledger.Open(t.TempDir(), name, ledger.Options{Disk: simdisk.New()})
		made[name] = l
		return l, true, err
	}, func(string, error) {})
	var both sync.WaitGroup
	both.Go(func() {
		_, _, err := s.Board(t.Context(), "b", false)
		assert.ErrorIs(t, err, store.ErrNoBoard)
	})
	<-looking
	both.Go(func() {
		l, release, err := s.Board(t.Context(), "b", true)
		if assert.NoError(t, err) {
			assert.Same(t, made["b"], l)
			release()
		}
	})
	synctest.Wait() // the second one waits for the first
	close(goOn)
	both.Wait()
	require.NoError(t, s.Close())
}
