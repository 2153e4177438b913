package ledger_test

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where the past is too much, the changes of a name beyond its newest three go
// first, then the restore points, then the oldest of what is left.
func TestWhatGoesFirst(t *testing.T) {
	t.Parallel()
	names := 40
	build := func(keptBytes int64) (l *ledger.Ledger, clock *clock) {
		clock = newClock()
		l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: simdisk.New(), Now: clock.Now, Small: 1, Kept: 5, KeptBytes: keptBytes})
		require.NoError(t, err)
		for range 10 {
			for i := range names {
				clock.now = clock.now.Add(20 * time.Second)
				require.NoError(t, put(l, fmt.Sprint("beds/", i), value.Int(clock.now.Unix())))
			}
		}
		addAll(t, l, clock, 3000, time.Millisecond)
		return l, clock
	}
	known := func(l *ledger.Ledger) (changes, names int) {
		history, err := l.History(0)
		require.NoError(t, err)
		seen := map[string]int{}
		for _, p := range history {
			for _, ch := range p.Changes {
				if strings.HasPrefix(ch.Name, "beds/") {
					seen[ch.Name]++
					changes++
				}
			}
		}
		return changes, len(seen)
	}
	old := func(l *ledger.Ledger, clock *clock, ago time.Duration) bool {
		_, _, err := l.AtTime(clock.now.Add(-ago))
		return err == nil
	}
	l, _ := build(1 << 20)
	changes, told := known(l)
	assert.Equal(t, []int{400, 40}, []int{changes, told}, "all")
	require.NoError(t, l.Close())

	l, clock := build(40_000)
	changes, told = known(l)
	assert.Equal(t, 40, told)
	assert.Less(t, changes, 400, "not all of the older changes of a name")
	assert.Greater(t, changes, 120, "but some")
	assert.True(t, old(l, clock, 100*time.Minute), "and every time")
	require.NoError(t, l.Close())

	l, clock = build(9_000)
	changes, told = known(l)
	assert.Equal(t, 40, told)
	assert.Less(t, changes, 121)
	assert.Greater(t, changes, 39)
	assert.False(t, old(l, clock, 130*time.Minute))
	assert.True(t, old(l, clock, 10*time.Minute))
	require.NoError(t, l.Close())

	l, _ = build(100)
	changes, _ = known(l)
	assert.Less(t, changes, 40, "and less than a change of each")
	assert.Greater(t, changes, 5, "in as many bytes as there are entries")
	require.NoError(t, l.Close())
}

// What is forgotten of names is nowhere in the file: not what they held, not that
// they were there, and the rest of the past is as it was.
func TestForgetNames(t *testing.T) {
	t.Parallel()
	for _, compacted := range []bool{false, true} {
		dir, clock := t.TempDir(), newClock()
		o := ledger.Options{Now: clock.Now}
		if compacted {
			o.Small, o.Kept, o.KeptBytes = 1, 3, 3000
		}
		l, err := ledger.Open(dir, "board", o)
		require.NoError(t, err)
		_, err = l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
			tx.Declare(entry.Declared{Key: entry.Key{Name: "hour", Kind: value.KindInt, About: "when"}})
			return nil
		})
		require.NoError(t, err)
		past := []map[string]int64{{}, {}}
		both := func(secret, n int64) {
			clock.now = clock.now.Add(time.Minute)
			_, err := l.Commit(entry.Author{By: "Ada"}, func(tx *ledger.Tx) error {
				for name, x := range map[string]int64{"gate-code": secret, "hour": n} {
					if x > 0 {
						enc, _ := ledger.Encode(value.Int(x))
						tx.Put(name, enc)
					}
				}
				return nil
			})
			require.NoError(t, err)
			next := maps.Clone(past[len(past)-1])
			if n > 0 {
				next["hour"] = n
			}
			past = append(past, next)
		}
		for n := range int64(30) {
			both(0, n+1)
			both(77_7000+n, 0)
			both(77_7500+n, 100+n)
		}
		_, err = l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop("gate-code"); return nil })
		require.NoError(t, err)
		past = append(past, past[len(past)-1])
		before, err := os.ReadFile(l.Path())
		require.NoError(t, err)
		require.Contains(t, string(before), "gate-code")
		told := func() (versions map[int64]bool) {
			versions = map[int64]bool{}
			for v := range past {
				if entries, err := l.At(int64(v)); err == nil {
					state := stateOf(entries)
					delete(state, "gate-code")
					require.Equal(t, past[v], state, "version %d", v)
					versions[int64(v)] = true
				}
			}
			return versions
		}
		was := told()
		require.NoError(t, l.Forget("gate-code"))
		assert.Nil(t, l.Find("gate-code"), "nor in memory")
		check := func() {
			t.Helper()
			file, err := os.ReadFile(l.Path())
			require.NoError(t, err)
			assert.NotContains(t, string(file), "gate-code")
			assert.NotContains(t, string(file), `"value":777`)
			assert.Contains(t, string(file), fmt.Sprintf(`"oldest":%d`, len(past)-1))
			assert.NotEqual(t, idOf(string(before)), idOf(string(file)))
		}
		check()
		is := told()
		assert.Greater(t, len(is), len(was)/2, "what else there was is told")
		history, err := l.History(0, "hour")
		require.NoError(t, err)
		assert.NotEmpty(t, history)
		for _, p := range history {
			assert.Equal(t, "Ada", p.By)
			n, _ := p.Changes[0].New.AsInt()
			assert.Equal(t, past[p.Version]["hour"], n)
		}
		require.NoError(t, l.Close())
		l, err = ledger.Open(dir, "board", ledger.Options{Now: clock.Now, Problem: func(err error) { t.Error(err) }})
		require.NoError(t, err)
		assert.Equal(t, is, told(), "also when it is read again")
		require.Len(t, l.Keys(), 1)
		assert.Equal(t, "when", l.Keys()[0].About)
		require.NoError(t, l.Forget("hour"))
		assert.EqualValues(t, 129, get(l, "hour"), "what a name holds stays")
		history, err = l.History(0, "hour")
		require.NoError(t, err)
		require.Len(t, history, 1)
		check()
		require.NoError(t, l.Close())
	}
}

func idOf(file string) string {
	_, id, _ := strings.Cut(file, `"id":"`)
	return id[:22]
}

// Another program that knew what was forgotten does not write it again, not even
// where its disk fails and it writes all that it knows.
func TestForgottenByAnother(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	its := disk.Process()
	one, other := openSim(t, disk, dir), openSim(t, its, dir)
	require.NoError(t, put(one, "gate-code", value.Text("rhubarb")))
	require.NoError(t, other.Refresh())
	_, err := one.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.Drop("gate-code"); return nil })
	require.NoError(t, err)
	require.NoError(t, one.Forget("gate-code"))
	require.NoError(t, put(one, "hour", value.Int(7)))
	require.NoError(t, other.Refresh())
	assert.False(t, other.Node("gate-code").Record().Found())
	failing := true
	its.Fault(func(op, _ string) error {
		if op == "sync" && failing {
			failing = false
			return syscall.EIO
		}
		return nil
	})
	assert.ErrorIs(t, put(other, "hour", value.Int(8)), ledger.ErrNotStored, "everything that it knows is written again")
	assert.NotContains(t, string(disk.Read(one.Path())), "gate-code")
	assert.NotContains(t, string(disk.Read(one.Path())), "1970-", "and each thing with its own time")
	require.NoError(t, put(other, "hour", value.Int(9)))
	require.NoError(t, one.Refresh())
	assert.EqualValues(t, 9, get(one, "hour"))

	// Nor where it salvages a damaged file with what it knows.
	file := disk.Read(one.Path())
	require.NoError(t, other.Close())
	third, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Process(), Salvage: true, Problem: func(error) {}})
	require.NoError(t, err)
	require.NoError(t, put(one, "gate-code", value.Text("marrow")))
	require.NoError(t, third.Refresh())
	disk.Write(one.Path(), file) // an older copy is put back
	require.NoError(t, third.Refresh())
	file[bytes.Index(file, []byte(`"value":7`))+8] = '1'
	disk.Write(one.Path(), file)
	require.NoError(t, third.Refresh())
	assert.Contains(t, string(disk.Read(one.Path())), `"value":9`, "it is salvaged")
	require.NoError(t, put(third, "plot", value.Text("C4")))
	assert.NotContains(t, string(disk.Read(one.Path())), "gate-code")
	assert.NotContains(t, string(disk.Read(one.Path())), "1970-")
	require.NoError(t, errors.Join(one.Close(), third.Close()))
}
