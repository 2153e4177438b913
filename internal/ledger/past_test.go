package ledger_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"strings"
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
