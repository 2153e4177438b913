package ledger_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/value"
)

func put(l *ledger.Ledger, name string, v value.Value) error {
	return putWithin(l, 0, name, v)
}

func putWithin(l *ledger.Ledger, within time.Duration, name string, v value.Value) error {
	enc, err := ledger.Encode(v)
	if err != nil {
		return err
	}
	_, err = l.CommitWithin(within, entry.Author{}, ledger.JudgeFunc(func(tx *ledger.Tx) error { tx.Put(name, enc); return nil }))
	return err
}

func get(l *ledger.Ledger, name string) int64 {
	n, _ := l.Node(name).Record().Value.AsInt()
	return n
}

// damages collects the Damage that a ledger reports.
type damages struct{ list []error }

func (d *damages) note(err error) {
	if errors.As(err, new(*ledger.Damage)) {
		d.list = append(d.list, err)
	}
}

// A machine writes in several goroutines until its power is cut, and notes
// what it was told is stored.
type machine struct {
	writers  int
	within   time.Duration
	tried    []int64
	acked    []int64
	promised []int64 // acknowledged, and in prompt mode flushed
}

// run opens the ledger on a disk and writes until every call fails, or for a
// number of commits each.
func (m *machine) run(t *testing.T, dir string, disk *simdisk.Disk, rng *rand.Rand) {
	var d damages
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: d.note, Salvage: true, Small: 1, Kept: 5, KeptBytes: 400})
	if err != nil {
		require.ErrorIs(t, err, simdisk.ErrDead)
		return
	}
	require.Empty(t, d.list, "a power cut is never called damage")
	for i := range m.writers {
		have := get(l, fmt.Sprint("n", i))
		require.GreaterOrEqual(t, have, m.promised[i], "what was promised is there")
		require.LessOrEqual(t, have, m.tried[i], "and nothing that was not written")
		m.tried[i], m.acked[i] = have, have
		m.promised[i] = have // it was synced by Open
	}
	rounds := 1 + rng.IntN(6)
	flush := rng.IntN(3) == 0
	var all sync.WaitGroup
	var mu sync.Mutex
	for i := range m.writers {
		all.Go(func() {
			for range rounds {
				mu.Lock()
				m.tried[i]++
				n := m.tried[i]
				mu.Unlock()
				if putWithin(l, m.within, fmt.Sprint("n", i), value.Int(n)) != nil {
					return
				}
				mu.Lock()
				m.acked[i] = n
				mu.Unlock()
				if m.within == 0 {
					mu.Lock()
					m.promised[i] = n
					mu.Unlock()
				}
			}
		})
	}
	all.Wait()
	if m.within > 0 && flush && l.Flush() == nil {
		copy(m.promised, m.acked)
	}
	disk.Kill()
	_ = l.Close() // it is dead
}

func TestPowerCuts(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		writers int
		within  time.Duration
	}{{1, 0}, {8, 0}, {64, 0}, {3, time.Hour}} {
		for _, sector := range []int{512, 4096, 64} {
			name := fmt.Sprintf("%d writers, sync within %v, sectors of %d", c.writers, c.within, sector)
			t.Run(name, func(t *testing.T) {
				dir := t.TempDir()
				cuts := soak.Rounds(120, 20_000)
				seed := uint64(time.Now().UnixNano())
				for i := 0; i < cuts; {
					rng := rand.New(rand.NewPCG(seed, uint64(i)))
					m := &machine{writers: c.writers, within: c.within, tried: make([]int64, c.writers), promised: make([]int64, c.writers), acked: make([]int64, c.writers)}
					disk := simdisk.New()
					for range 4 {
						stop, step := 1+rng.IntN(40), 0
						disk.Fault(func(string, string) error {
							if step++; step >= stop {
								return simdisk.ErrDead
							}
							return nil
						})
						m.run(t, dir, disk, rng)
						disk = disk.PowerCut(rng, sector)
						i++
					}
					// With the power back for good, all that was promised is there.
					m.run(t, dir, disk, rng)
					require.False(t, t.Failed(), "seed %d, cut %d", seed, i)
				}
			})
		}
	}
}

// A first sync fails and later ones claim success. The commit is never acknowledged, and the file is
// rewritten before the next acknowledgement.
func TestSyncThatFails(t *testing.T) {
	t.Parallel()
	for _, cause := range []error{syscall.EIO, syscall.ENOSPC} {
		for _, anewFails := range []bool{false, true} {
			disk, dir := simdisk.New(), t.TempDir()
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
			require.NoError(t, err)
			require.NoError(t, put(l, "a", value.Int(1)))
			failed, renamed := false, false
			disk.Fault(func(op, _ string) error {
				switch {
				case op == "sync" && !failed:
					failed = true
					return cause
				case op == "rename" && anewFails:
					return syscall.EIO
				case op == "rename":
					renamed = true
				}
				return nil
			})
			err = put(l, "a", value.Int(2))
			full := cause == syscall.ENOSPC
			if anewFails && !full {
				assert.ErrorIs(t, err, ledger.ErrUncertain)
				assert.Error(t, put(l, "a", value.Int(3)), "until the file is rewritten, nothing is stored")
				assert.EqualValues(t, 1, get(l, "a"), "and reads go on")
				anewFails = false
			} else {
				assert.ErrorIs(t, err, ledger.ErrNotStored)
			}
			assert.EqualValues(t, 1, get(l, "a"))
			require.NoError(t, put(l, "b", value.Int(4)))
			assert.Equal(t, !full, renamed, "the rewrite comes before the next acknowledgement")
			disk.Kill()
			_ = l.Close()
			for i := range uint64(20) {
				l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.PowerCut(rand.New(rand.NewPCG(i, 1)), 64)})
				require.NoError(t, err)
				assert.EqualValues(t, []int64{1, 4}, []int64{get(l, "a"), get(l, "b")})
				require.NoError(t, l.Close())
			}
		}
	}
}

// In prompt mode what was shown is kept when its sync fails.
func TestPromptSyncThatFails(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
	require.NoError(t, err)
	require.NoError(t, putWithin(l, time.Hour, "a", value.Int(1)))
	assert.NotContains(t, string(disk.Read(journal.DataPath(dir, "board"))), `"synced"`)
	require.NoError(t, putWithin(l, time.Hour, "a", value.Int(2)))
	assert.Contains(t, string(disk.Read(journal.DataPath(dir, "board"))), `"version":2,"at":`)
	assert.Contains(t, string(disk.Read(journal.DataPath(dir, "board"))), `"synced":0`, "lines of that time tell how far all is synced")
	once := false
	disk.Fault(func(op, path string) error {
		if op == "sync" && !once {
			once = true
			return syscall.EIO
		}
		return nil
	})
	require.NoError(t, l.Flush(), "the file was rewritten")
	disk.Kill()
	_ = l.Close()
	l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk.PowerCut(rand.New(rand.NewPCG(1, 1)), 64)})
	require.NoError(t, err)
	assert.EqualValues(t, 2, get(l, "a"))
	require.NoError(t, l.Close())
}

// The disk is full after every number of bytes. The error is certain, readers see no change, and commits
// succeed again when there is space.
func TestFullDiskAtEveryByte(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for space := range 130 {
		disk := simdisk.New()
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk})
		require.NoError(t, err)
		require.NoError(t, put(l, "a", value.Int(1)))
		before := disk.Read(l.Path())
		disk.Space(space)
		err = put(l, "a", value.Int(2))
		if err == nil {
			require.Greater(t, space, 100)
		} else {
			require.ErrorIs(t, err, ledger.ErrNotStored)
			require.ErrorIs(t, err, syscall.ENOSPC)
			require.Equal(t, string(before), string(disk.Read(l.Path())))
			require.EqualValues(t, 1, get(l, "a"))
		}
		disk.Space(-1)
		require.NoError(t, put(l, "a", value.Int(3)))
		require.NoError(t, l.Close())
		l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk.PowerCut(rand.New(rand.NewPCG(1, 1)), 64)})
		require.NoError(t, err)
		require.EqualValues(t, 3, get(l, "a"))
		require.NoError(t, l.Close())
	}
}

// A process is killed at every step of writing and compacting, and so is a
// machine.
func TestKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for stop := 1; ; stop++ {
		disk := simdisk.New()
		open := func(d *simdisk.Disk) (*ledger.Ledger, error) {
			return ledger.Open(dir, "board", ledger.Options{Disk: d, Small: 1, Kept: 2, KeptBytes: 150, Problem: func(err error) {
				assert.NotErrorAs(t, err, new(*ledger.Damage))
			}})
		}
		step := 0
		disk.Fault(func(string, string) error {
			if step++; step == stop {
				return simdisk.ErrDead
			}
			return nil
		})
		acked := int64(0)
		compacted := false
		l, err := open(disk)
		if err == nil {
			for n := int64(1); n <= 25; n++ {
				if put(l, "n", value.Int(n)) == nil {
					acked = n
				}
			}
			compacted = !strings.Contains(string(disk.Read(l.Path())), `"base":0`)
			_ = l.Close()
		}
		for _, after := range []*simdisk.Disk{disk.Restarted(), disk.PowerCut(rand.New(rand.NewPCG(uint64(stop), 2)), 64)} {
			l, err := open(after)
			require.NoError(t, err, "step %d", stop)
			require.GreaterOrEqual(t, get(l, "n"), acked, "step %d", stop)
			require.LessOrEqual(t, get(l, "n"), acked+1, "step %d", stop)
			require.NoError(t, put(l, "n", value.Int(100)))
			require.NoError(t, l.Close())
		}
		if acked == 25 {
			require.True(t, compacted)
			return
		}
	}
}

// A second Set to a value that is on its way is not answered by one that then
// fails.
func TestSameValuePending(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
	require.NoError(t, err)
	second := make(chan error, 1)
	first := true
	disk.Fault(func(op, path string) error {
		if op != "sync" || !first {
			return nil
		}
		first = false
		go func() { second <- put(l, "n", value.Int(7)) }()
		untilWaiting(l, 1)
		return syscall.EIO
	})
	assert.Error(t, put(l, "n", value.Int(7)))
	require.NoError(t, <-second)
	assert.EqualValues(t, 7, get(l, "n"))
	disk.Kill()
	_ = l.Close()
	l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk.PowerCut(rand.New(rand.NewPCG(1, 1)), 64)})
	require.NoError(t, err)
	assert.EqualValues(t, 7, get(l, "n"))
	require.NoError(t, l.Close())
}
