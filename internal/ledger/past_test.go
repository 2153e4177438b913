package ledger_test

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/value"
)

// A clock is turned by the test.
type clock struct{ now time.Time }

func newClock() *clock { return &clock{time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)} }

func (c *clock) Now() time.Time { return c.now }

// A moment is what a board was at one version.
type moment struct {
	at      time.Time
	state   map[string]int64
	changed map[string]bool
}

// After any compaction, every version that is returned has its old content, and every time leads to the
// newest version that is not later. The history has what each commit did, and current entries keep their
// versions and times.
func TestThePastAfterCompactions(t *testing.T) {
	t.Parallel()
	for seed := range uint64(soak.Rounds(4, 12)) {
		rng := rand.New(rand.NewPCG(seed, 7))
		disk, dir, clock := simdisk.New(), t.TempDir(), newClock()
		o := ledger.Options{Disk: disk, Small: 1, Kept: 1 + rng.IntN(5), KeptBytes: int64(300 + rng.IntN(6000)), Now: clock.Now}
		l, err := ledger.Open(dir, "board", o)
		require.NoError(t, err)
		past := []moment{{at: clock.now.Add(-time.Hour), state: map[string]int64{}}}
		newest := map[string]int64{}
		told, merged := 0, 0
		for n := range 250 {
			clock.now = clock.now.Add([]time.Duration{time.Millisecond, time.Second, 40 * time.Second, 25 * time.Minute, 9 * time.Hour}[rng.IntN(5)])
			now := moment{at: clock.now, state: maps.Clone(past[len(past)-1].state), changed: map[string]bool{}}
			_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
				for range 1 + rng.IntN(3) {
					name := fmt.Sprint("n", min(rng.IntN(6), rng.IntN(6)))
					now.changed[name] = true
					if rng.IntN(4) == 0 {
						tx.Drop(name)
						delete(now.state, name)
						continue
					}
					now.state[name] = rng.Int64N(1000) + 1
					enc, _ := ledger.Encode(value.Int(now.state[name]))
					tx.Put(name, enc)
				}
				return nil
			})
			require.NoError(t, err)
			if l.Version() == int64(len(past)) {
				for name := range now.changed {
					if now.state[name] != past[len(past)-1].state[name] {
						newest[name] = l.Version()
					}
				}
				past = append(past, now)
			}
			if n%40 == 39 {
				require.NoError(t, l.Close())
				l, err = ledger.Open(dir, "board", o)
				require.NoError(t, err)
			}
			for name, version := range newest {
				if rec := l.Node(name).Record(); rec.Found() {
					require.Equal(t, version, rec.Version, "seed %d: %s at %d", seed, name, len(past)-1)
					require.Equal(t, past[version].at, rec.Time())
				}
			}
			if n%25 != 24 {
				continue
			}
			known := map[int64]bool{}
			for version := range past {
				if entries, err := l.At(int64(version)); err == nil {
					require.Equal(t, past[version].state, stateOf(entries), "seed %d, version %d of %d", seed, version, len(past)-1)
					known[int64(version)] = true
				} else {
					require.ErrorIs(t, err, ledger.ErrTooOld)
				}
			}
			told += len(known)
			merged += len(past) - len(known)
			for version := range past {
				entries, was, err := l.AtTime(past[version].at.Add(time.Duration(rng.IntN(2)) * 300 * time.Microsecond))
				if err != nil {
					require.ErrorIs(t, err, ledger.ErrTooOld)
					for v := int64(0); v <= int64(version); v++ {
						require.False(t, known[v] && known[v-1], "seed %d: version %d is told, so is its time", seed, v)
					}
					continue
				}
				require.Equal(t, past[was].state, stateOf(entries), "seed %d, time of version %d of %d", seed, version, len(past)-1)
				for v := was + 1; v <= int64(version); v++ {
					require.False(t, known[v], "seed %d: version %d was nearer than %d", seed, v, was)
				}
			}
			history, err := l.History(0)
			require.NoError(t, err)
			for _, p := range history {
				require.Equal(t, past[p.Version].at, p.Time)
				for _, ch := range p.Changes {
					before, after := past[p.Version-1].state, past[p.Version].state
					old, _ := ch.Old.AsInt()
					is, _ := ch.New.AsInt()
					require.Equal(t, []int64{before[ch.Name], after[ch.Name]}, []int64{old, is}, "seed %d, version %d, %s", seed, p.Version, ch.Name)
				}
			}
		}
		assert.Greater(t, told, 100, "many are told")
		assert.Greater(t, merged, 100, "and others are not")
		require.NoError(t, l.Close())
	}
}

// addAll adds to a counter so often that the file is compacted several times.
func addAll(t *testing.T, l *ledger.Ledger, clock *clock, times int, every time.Duration) {
	t.Helper()
	for range times {
		clock.now = clock.now.Add(every)
		_, err := l.CommitWithin(time.Hour, entry.Author{}, ledger.JudgeFunc(func(tx *ledger.Tx) error {
			n, _ := tx.Value("visits").AsInt()
			enc, err := ledger.Encode(value.Int(n + 1))
			tx.Put("visits", enc)
			return err
		}))
		require.NoError(t, err)
	}
}

// A busy counter pushes out its own past, and no other entry's. After 20,000 additions an accident is found,
// and what was before it. Times are exact to the minute, the hour or the day, depending on their age.
func TestAnAccidentIsUndone(t *testing.T) {
	t.Parallel()
	disk, clock := simdisk.New(), newClock()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: disk, Now: clock.Now})
	require.NoError(t, err)
	for day := range 10 {
		clock.now = clock.now.Add(24 * time.Hour)
		require.NoError(t, put(l, "liters", value.Int(int64(100*day))))
	}
	before := l.Version()
	accident := clock.now.Add(time.Hour)
	clock.now = accident
	require.NoError(t, put(l, "liters", value.Int(0)))
	addAll(t, l, clock, 20_000, 4*time.Second) // nearly a day
	liters := func(entries []entry.Entry, err error) int64 {
		t.Helper()
		require.NoError(t, err)
		return stateOf(entries)["liters"]
	}
	history, err := l.History(1, "liters")
	require.NoError(t, err)
	require.Len(t, history, 1)
	assert.Equal(t, before+1, history[0].Version)
	assert.EqualValues(t, 900, liters(l.At(before)))
	size := len(disk.Read(l.Path()))
	assert.Less(t, size, 1<<20+200<<10)

	for _, c := range []struct {
		ago, within time.Duration
	}{{10 * time.Minute, time.Minute}, {59 * time.Minute, time.Minute}, {5 * time.Hour, time.Hour}, {20 * time.Hour, time.Hour}} {
		at := clock.now.Add(-c.ago)
		entries, version, err := l.AtTime(at)
		require.NoError(t, err)
		seen := stateOf(entries)["visits"]
		exact := int64(at.Sub(accident) / (4 * time.Second))
		assert.LessOrEqual(t, seen, exact)
		assert.Greater(t, seen, exact-int64(c.within/(4*time.Second))-1, "%v ago", c.ago)
		again, err := l.At(version)
		require.NoError(t, err)
		assert.Equal(t, entries, again)
	}
	entries, _, err := l.AtTime(accident.Add(-time.Second))
	assert.EqualValues(t, 900, liters(entries, err))
	entries, _, err = l.AtTime(accident.Add(-25 * time.Hour))
	assert.EqualValues(t, 800, liters(entries, err))
	entries, version, err := l.AtTime(accident.Add(-1000 * time.Hour))
	require.NoError(t, err, "the file has everything since it was made")
	assert.Empty(t, entries)
	assert.Zero(t, version)

	// A month later there are days, and no hours.
	clock.now = clock.now.Add(20 * 24 * time.Hour)
	addAll(t, l, clock, 12_000, time.Millisecond)
	entries, _, err = l.AtTime(accident.Add(12 * time.Hour))
	require.NoError(t, err)
	assert.EqualValues(t, 0, stateOf(entries)["liters"])
	known := 0
	for v := before; v <= before+20_000; v++ {
		if _, err := l.At(v); err == nil {
			known++
		} else {
			v += 50
		}
	}
	assert.Less(t, known, 30, "the days, and the changes of liters")
	require.NoError(t, l.Close())
}

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

// A file that is read at each start is not read again by a compaction at each
// first commit, and compacted in the end however little is written each time.
func TestCompactionOverManyStarts(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	largest, reads := 0, 0
	for n := range 3000 {
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Small: 1 << 10, Kept: 10, KeptBytes: 4 << 10})
		require.NoError(t, err)
		largest = max(largest, len(disk.Read(l.Path())))
		disk.Fault(func(op, path string) error {
			if op == "open" && strings.HasSuffix(path, ".jsonl") {
				reads++
			}
			return nil
		})
		require.NoError(t, put(l, "n", value.Int(int64(n))))
		disk.Fault(nil)
		require.NoError(t, l.Close())
	}
	assert.Less(t, largest, 24<<10)
	assert.Less(t, reads, 3000/5)
}

// The time of a base is known if a line of it has it. It is not guessed from lines that are older, or have
// none.
func TestTimeOfABase(t *testing.T) {
	t.Parallel()
	line := func(version, minute int, more string) string {
		at := fmt.Sprintf("2026-05-03T09:%02d:00.000Z", minute)
		if minute < 0 {
			at = "1970-01-01T00:00:00.000Z"
		}
		return fmt.Sprintf(`{"version":%d,"at":%q%s`, version, at, more)
	}
	one := `,"set":[{"name":"hour","kind":"int","value":1}]`
	for name, c := range map[string]struct {
		base []string
		told bool
	}{
		"by its newest entry": {[]string{line(3, 1, one), line(5, 3, `,"set":[{"name":"plot","kind":"text","value":"C4"}]`)}, true},
		"by a line of keys":   {[]string{line(3, 1, one), line(5, -1, `,"keys":[{"name":"hour","kind":"int"}]`)}, false},
		"by an older one":     {[]string{line(3, 1, one)}, false},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			writeFile(t, dir, "plotbook", append(append([]string{header(5, len(c.base), "")}, c.base...), line(6, 7, `,"set":[{"name":"hour","kind":"int","value":6}]`))...)
			l := openPlain(t, dir, ledger.Options{})
			at := func(minute int) (int64, error) {
				_, version, err := l.AtTime(time.Date(2026, 5, 3, 9, minute, 0, 0, time.UTC))
				return version, err
			}
			version, err := at(5)
			if c.told {
				require.NoError(t, err)
				assert.EqualValues(t, 5, version)
			} else {
				assert.ErrorIs(t, err, ledger.ErrTooOld)
			}
			version, err = at(8)
			require.NoError(t, err)
			assert.EqualValues(t, 6, version)
			_, err = at(0)
			assert.ErrorIs(t, err, ledger.ErrTooOld)
			require.NoError(t, l.Close())
		})
	}
}

// A file whose entries take most of it is not read to find that out.
func TestLargeEntriesAreNotReadForNothing(t *testing.T) {
	t.Parallel()
	reads, disk := 0, simdisk.New()
	l, err := ledger.Open(t.TempDir(), "board", ledger.Options{Disk: disk, Small: 1})
	require.NoError(t, err)
	disk.Fault(func(op, path string) error {
		if op == "open" && strings.HasSuffix(path, ".jsonl") {
			reads++
		}
		return nil
	})
	for i := range 200 {
		require.NoError(t, put(l, fmt.Sprint("notes/", i), value.Text(strings.Repeat("x", 1000))))
	}
	assert.Zero(t, reads)
	require.NoError(t, l.Close())
}

// Lines are counted on after a compaction, so that what is cut is named by its line.
func TestLinesAreCountedAfterACompaction(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var cut *ledger.CutError
	l, err := ledger.Open(dir, "board", ledger.Options{Small: 1, Kept: 3, KeptBytes: 700, Problem: func(err error) { require.ErrorAs(t, err, &cut) }})
	require.NoError(t, err)
	for n := range int64(60) {
		require.NoError(t, put(l, fmt.Sprint("n", n%3), value.Int(n)))
	}
	file, err := os.ReadFile(l.Path())
	require.NoError(t, err)
	require.NotContains(t, string(file), `"base":0,`)
	f, err := os.OpenFile(l.Path(), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("half a line")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, put(l, "n", value.Int(1)))
	require.NotNil(t, cut)
	assert.Equal(t, strings.Count(string(file), "\n")+1, cut.Tail.Line)
	require.NoError(t, l.Close())
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
