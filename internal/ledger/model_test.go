package ledger_test

import (
	"errors"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
)

// A model is what a ledger should be: its state at each version.
type model struct {
	past  []map[string]int64 // by version
	first map[string]int64   // since which version a name has held something
	keys  map[string]bool

	closed   bool
	commits  map[int64]ledger.CommitID // by version; those of before a forgetting are gone
	receipts map[string]int64          // the version of each key
}

func (m *model) now() map[string]int64 { return m.past[len(m.past)-1] }

func (m *model) commit(changes map[string]int64) {
	next := maps.Clone(m.now())
	for name, n := range changes {
		if n == 0 {
			delete(next, name)
		} else {
			next[name] = n
		}
	}
	if !maps.Equal(next, m.now()) {
		m.past = append(m.past, next)
	}
	for name := range changes {
		if _, found := next[name]; !found {
			delete(m.first, name)
		} else if m.first[name] == 0 {
			m.first[name] = int64(len(m.past) - 1)
		}
	}
}

// firsts returns the version since when each name has held a value.
func firsts(l *ledger.Ledger) map[string]int64 {
	out := map[string]int64{}
	for n := range l.Nodes() {
		if rec := n.Record(); rec.Found() {
			out[n.Name] = rec.First
		}
	}
	return out
}

func stateOf(entries []entry.Entry) map[string]int64 {
	out := map[string]int64{}
	for _, e := range entries {
		out[e.Name], _ = e.Value.AsInt()
	}
	return out
}

func collect(s *ledger.Snapshot) map[string]int64 {
	var out []entry.Entry
	for e := range s.Entries("", "") {
		out = append(out, e.Entry())
	}
	return stateOf(out)
}

// Random commits, with reopening, compaction, snapshots and looking back among
// them, against plain maps.
func TestAgainstAModel(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	rapid.Check(t, func(rt *rapid.T) {
		disk := simdisk.New()
		open := func() *ledger.Ledger {
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Small: 1, Kept: rapid.IntRange(1, 30).Draw(rt, "kept"), KeptBytes: rapid.Int64Range(1, 3000).Draw(rt, "bytes kept"), Marks: 30, Problem: func(err error) { rt.Error(err) }})
			require.NoError(rt, err)
			return l
		}
		l := open()
		defer func() { require.NoError(rt, l.Close()) }()
		m := &model{past: []map[string]int64{{}}, first: map[string]int64{}, keys: map[string]bool{}, commits: map[int64]ledger.CommitID{}, receipts: map[string]int64{}}
		other, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Process(), ReadOnly: true, Marks: 30})
		require.NoError(rt, err)
		defer func() { require.NoError(rt, other.Close()) }()
		type held struct {
			s    *ledger.Snapshot
			want map[string]int64
		}
		var snaps []held
		release := func() {
			for _, h := range snaps {
				h.s.Release()
			}
			snaps = nil
		}
		defer func() { release() }()
		names := rapid.SampledFrom([]string{"a", "b", "a/1", "a/2", "c"})
		commit := func(rt *rapid.T, within time.Duration) {
			changes := map[string]int64{}
			for range rapid.IntRange(1, 4).Draw(rt, "n") {
				changes[names.Draw(rt, "name")] = int64(rapid.IntRange(0, 3).Draw(rt, "value"))
			}
			fail := rapid.IntRange(0, 4).Draw(rt, "fail") == 0
			no := errors.New("no")
			key := fmt.Sprint(len(m.receipts))
			version := len(m.past)
			result, err := l.CommitWithin(within, entry.Author{By: "app"}, ledger.JudgeFunc(func(tx *ledger.Tx) error {
				if r, _ := tx.Receipt("", "phone", key); r != nil {
					return errors.New("a receipt of nothing")
				}
				tx.Keep(ledger.Receipt{Instance: "phone", Key: key, Hash: "5a", Status: 200, Changed: "1", Taken: []byte(`["C4"]`)})
				for name, n := range changes {
					if n == 0 {
						tx.Drop(name)
						continue
					}
					enc, err := ledger.Encode(value.Int(n))
					require.NoError(rt, err)
					tx.Put(name, enc)
				}
				if fail {
					return no
				}
				return nil
			}))
			if fail {
				require.ErrorIs(rt, err, no)
				return
			}
			require.NoError(rt, err)
			if m.commit(changes); result.Changed {
				require.EqualValues(rt, version, result.After.Version)
				require.EqualValues(rt, version-1, result.Before.Version)
				m.commits[result.After.Version], m.receipts[key] = *result.After, int64(version)
			} else {
				require.Equal(rt, result.Before, result.After)
			}
		}
		rt.Repeat(map[string]func(*rapid.T){
			"commit": func(rt *rapid.T) { commit(rt, 0) },
			"prompt": func(rt *rapid.T) { commit(rt, time.Hour) },
			"flush":  func(rt *rapid.T) { require.NoError(rt, l.Flush()) },
			"many commits": func(rt *rapid.T) {
				for i := range 40 { // enough for a compaction
					n := int64(i%7 + 1)
					require.NoError(rt, put(l, "hot", value.Int(n)))
					m.commit(map[string]int64{"hot": n})
				}
			},
			"declare": func(rt *rapid.T) {
				name := names.Draw(rt, "key")
				_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
					tx.Declare(entry.Declared{Key: entry.Key{Name: name, Kind: value.KindInt, Default: value.Int(1)}})
					return nil
				})
				require.NoError(rt, err)
				if !m.keys[name] {
					m.keys[name] = true
					m.past = append(m.past, m.now())
				}
			},
			"close": func(rt *rapid.T) {
				closed := rapid.Bool().Draw(rt, "closed")
				result, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.CloseKeys(closed); return nil })
				require.NoError(rt, err)
				require.Equal(rt, m.closed != closed, result.Changed)
				if m.closed = closed; result.Changed {
					m.past = append(m.past, m.now())
				}
			},
			"snapshot": func(rt *rapid.T) { snaps = append(snaps, held{l.Snapshot(), m.now()}) },
			"release":  func(rt *rapid.T) { release() },
			"reopen": func(rt *rapid.T) {
				release()
				require.NoError(rt, l.Close())
				l = open()
			},
			"look back": func(rt *rapid.T) {
				version := rapid.IntRange(0, len(m.past)-1).Draw(rt, "version")
				entries, err := l.At(int64(version))
				if errors.Is(err, ledger.ErrTooOld) {
					return
				}
				require.NoError(rt, err)
				require.Equal(rt, m.past[version], stateOf(entries), "version %d", version)
			},
			"history": func(rt *rapid.T) {
				past, err := l.History(0)
				require.NoError(rt, err)
				for _, p := range past {
					for _, ch := range p.Changes {
						was, _ := ch.Old.AsInt()
						is, _ := ch.New.AsInt()
						require.Equal(rt, m.past[p.Version-1][ch.Name], was)
						require.Equal(rt, m.past[p.Version][ch.Name], is)
					}
				}
			},
			"forget": func(rt *rapid.T) {
				require.NoError(rt, l.Forget())
				clear(m.commits)
				clear(m.receipts)
			},
			"renew": func(rt *rapid.T) {
				require.NoError(rt, l.Renew())
				clear(m.commits)
			},
			"": func(rt *rapid.T) {
				require.EqualValues(rt, len(m.past)-1, l.Version())
				s := l.Snapshot()
				defer s.Release()
				require.Equal(rt, m.now(), collect(s))
				require.Equal(rt, m.first, firsts(l))
				require.NoError(rt, other.Refresh())
				require.Equal(rt, m.first, firsts(other), "as another program reads it")
				for _, l := range []*ledger.Ledger{l, other} {
					require.Equal(rt, m.closed, l.KeysClosed())
					for version := range int64(len(m.past)) {
						if now, known := l.CommitAt(version); known && m.commits[version] != (ledger.CommitID{}) {
							require.Equal(rt, m.commits[version], now)
						}
					}
				}
				newest, known := l.CommitAt(l.Version())
				require.True(rt, known, "the newest is known")
				require.Equal(rt, newest, s.Commit())
				_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
					for key, version := range m.receipts {
						r, _ := tx.Receipt("", "phone", key)
						require.NotNil(rt, r, "the receipt %s of version %d", key, version)
						require.Equal(rt, []any{version, "5a", `["C4"]`}, []any{r.Version, r.Hash, string(r.Taken)})
					}
					return nil
				})
				require.NoError(rt, err)
				require.Len(rt, l.Keys(), len(m.keys))
				for _, h := range snaps {
					require.Equal(rt, h.want, collect(h.s), "a snapshot stays as it was")
				}
			},
		})
	})
}

// What changed since a version is all that differs, removed names included.
func TestChangedSince(t *testing.T) {
	t.Parallel()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New()})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	for i, name := range []string{"b", "a", "a/1", "c"} {
		require.NoError(t, put(l, name, value.Int(int64(i))))
	}
	_, err = l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop("a"); return nil })
	require.NoError(t, err)
	since := func(version int64, prefix, after string) string {
		s := l.Snapshot()
		defer s.Release()
		var out []string
		for e := range s.Changed(version, prefix, after) {
			mark := ""
			if !e.Found() {
				mark = "-"
			}
			out = append(out, fmt.Sprint(mark, e.Name))
		}
		return strings.Join(out, " ")
	}
	assert.Equal(t, "-a a/1 b c", since(0, "", ""))
	assert.Equal(t, "-a c", since(3, "", ""))
	assert.Equal(t, "-a a/1", since(0, "a", ""))
	assert.Equal(t, "a/1 b c", since(0, "", "a"))
	assert.Equal(t, "c", since(0, "", "b"))
	assert.Empty(t, since(5, "", ""))
	assert.Empty(t, since(0, "d", ""))
}

// A watcher is signalled for the names it watches, once for any number of changes.
func TestWatcher(t *testing.T) {
	t.Parallel()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New()})
	require.NoError(t, err)
	one, beds, all := l.Watch([]string{"a"}, nil), l.Watch(nil, []string{"beds/"}), l.Watch(nil, nil)
	require.Equal(t, 3, l.Watchers())
	for _, name := range []string{"b", "beds/1", "beds/2"} {
		require.NoError(t, put(l, name, value.Int(1)))
	}
	done := make(chan struct{})
	close(done)
	for w, told := range map[*ledger.Watcher]bool{one: false, beds: true, all: true} {
		waits := make(chan struct{})
		if !told {
			close(waits) // else it would wait for ever
		}
		assert.Equal(t, told, w.Wait(t.Context(), waits))
	}
	assert.False(t, beds.Wait(t.Context(), done), "two changes were told as one")
	require.NoError(t, l.Close())
	assert.False(t, all.Wait(t.Context(), nil), "the end of the ledger ends watching")
	one.Close()
	beds.Close()
	all.Close()
	_, err = l.Commit(entry.Author{}, func(*ledger.Tx) error { return nil })
	assert.ErrorIs(t, err, ledger.ErrClosed)
	assert.ErrorIs(t, l.Refresh(), ledger.ErrClosed)
	assert.ErrorIs(t, l.Forget(), ledger.ErrClosed)
}

// A judge's panic reaches its caller, and the ledger keeps working.
func TestJudgePanics(t *testing.T) {
	t.Parallel()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New()})
	require.NoError(t, err)
	assert.PanicsWithValue(t, "mine", func() {
		_, _ = l.Commit(entry.Author{}, func(*ledger.Tx) error { panic("mine") })
	})
	require.NoError(t, put(l, "a", value.Int(1)))
	require.NoError(t, l.Close())
}

// Commits that queue behind one that takes too long give up, the first of them
// too, and are not carried out later.
func TestBusyBehindALongCommit(t *testing.T) {
	t.Parallel()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New(), Wait: 40 * time.Millisecond})
	require.NoError(t, err)
	started, goOn, ended := make(chan struct{}), make(chan struct{}), make(chan error)
	go func() {
		_, err := l.Commit(entry.Author{}, func(*ledger.Tx) error { close(started); <-goOn; return nil })
		ended <- err
	}()
	<-started
	queued := make(chan error)
	for range 3 {
		go func() { queued <- put(l, "late", value.Int(1)) }()
	}
	for range 3 {
		assert.ErrorIs(t, <-queued, journal.ErrBusy)
	}
	close(goOn)
	require.NoError(t, <-ended)
	assert.Zero(t, l.Version())
	require.NoError(t, put(l, "late", value.Int(1)))
	assert.EqualValues(t, 1, l.Version())
	require.NoError(t, l.Close())
}
