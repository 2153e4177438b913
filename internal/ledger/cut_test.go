package ledger_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sample writes a file with a compacted part, removed names and a tail.
func sample(t testing.TB, dir string, disk *simdisk.Disk) (whole []byte) {
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Small: 1, Kept: 3, KeptBytes: 400, Problem: func(err error) { t.Error(err) }})
	require.NoError(t, err)
	for i := range 60 {
		require.NoError(t, put(l, fmt.Sprint("n", i%4), value.Int(int64(i))))
	}
	require.NoError(t, l.Close())
	return disk.Read(l.Path())
}

// Each byte flipped, in each of three ways: no panic, no value that was never
// written, and damage named where promised bytes are gone.
func TestFlipEveryByte(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	whole := sample(t, dir, simdisk.New())
	path := filepath.Join(dir, "board.jsonl")
	lastLine := strings.LastIndexByte(strings.TrimSuffix(string(whole), "\n"), '\n') + 1
	for at := range whole {
		flips := []byte{1, 0x80, 0x20}
		if !soak.On() {
			flips = flips[at%3:][:1]
		}
		for _, flip := range flips {
			spoilt := append([]byte{}, whole...)
			spoilt[at] ^= flip
			line := 1 + strings.Count(string(whole[:at]), "\n")
			disk := simdisk.New()
			disk.Write(path, spoilt)
			_, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, ReadOnly: true})
			damage, damaged := journal.AsDamage(err)
			require.Equal(t, at < lastLine, damaged, "byte %d ^ %x: %v", at, flip, err)
			if damaged {
				require.Equal(t, line, damage.Line, "byte %d ^ %x", at, flip)
				require.Equal(t, string(whole), string(append(spoilt[:at:at], append([]byte{spoilt[at] ^ flip}, spoilt[at+1:]...)...)))
			} else {
				require.NoError(t, err)
			}
			var d damages
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Salvage: true, Problem: d.note})
			require.NoError(t, err)
			require.Len(t, d.list, map[bool]int{true: 1}[damaged])
			for i := range 4 {
				if n := get(l, fmt.Sprint("n", i)); n != 0 {
					require.EqualValues(t, i, n%4, "byte %d", at)
				}
			}
			require.NoError(t, put(l, "n0", value.Int(100)))
			require.NoError(t, l.Close())
			l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk})
			require.NoError(t, err, "what was salvaged is in good health")
			require.NoError(t, l.Close())
		}
	}
}

// A compacted file cut at every byte: damage within what was compacted, a torn
// end behind it.
func TestCutCompactedFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	whole := sample(t, dir, simdisk.New())
	path := filepath.Join(dir, "board.jsonl")
	lines := strings.SplitAfter(string(whole), "\n")
	var h struct{ lines int }
	_, err := fmt.Sscanf(lines[0][strings.Index(lines[0], `"lines":`):], `"lines":%d`, &h.lines)
	require.NoError(t, err)
	require.Positive(t, h.lines)
	based := len(strings.Join(lines[:h.lines+1], ""))
	for size := range whole {
		disk := simdisk.New()
		disk.Write(path, whole[:size])
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, ReadOnly: true})
		_, damaged := journal.AsDamage(err)
		require.Equal(t, size < based, damaged, "cut at %d: %v", size, err)
		if !damaged {
			require.NoError(t, err)
			require.NoError(t, l.Close())
		}
	}
}

// Opening a file with any content does not panic. A salvaged file is healthy, and has the same content when
// it is opened again.
func FuzzOpen(f *testing.F) {
	dir := f.TempDir()
	whole := sample(f, dir, simdisk.New())
	path := filepath.Join(dir, "board.jsonl")
	f.Add(whole)
	f.Add(whole[:len(whole)-20])
	f.Add([]byte(strings.Replace(string(whole), `"version":10`, `"version":11`, 1)))
	f.Add([]byte{})
	f.Add([]byte("\n\n\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		disk := simdisk.New()
		disk.Write(path, data)
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Salvage: true})
		if err != nil {
			require.True(t, errors.As(err, new(*journal.NewerError)) || errors.Is(err, journal.ErrForeign), "%v", err)
			require.Equal(t, string(data), string(disk.Read(path)), "what is not ours is left as it is")
			return
		}
		state := func(l *ledger.Ledger) string {
			var b strings.Builder
			s := l.Snapshot()
			defer s.Release()
			for e := range s.Entries("", "") {
				fmt.Fprintf(&b, "%s %s %d\n", e.Name, e.Value.AppendJSON(nil), e.Version)
			}
			return b.String()
		}
		before := state(l)
		require.NoError(t, put(l, "new", value.Int(1)))
		require.NoError(t, l.Close())
		l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(err error) { t.Error(err) }})
		require.NoError(t, err)
		after := state(l)
		for line := range strings.Lines(before) {
			if !strings.HasPrefix(line, "new ") {
				require.Contains(t, after, line)
			}
		}
		require.NoError(t, l.Close())
	})
}

// A prompt commit is synced within its time, also without Flush or Close.
func TestPromptCommitIsSynced(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		disk, dir := simdisk.New(), t.TempDir()
		l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk})
		require.NoError(t, err)
		afterCut := func() int64 {
			r, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Synced(), ReadOnly: true})
			require.NoError(t, err)
			defer r.Close()
			return get(r, "n")
		}
		require.NoError(t, putWithin(l, 250*time.Millisecond, "n", value.Int(7)))
		assert.EqualValues(t, 0, afterCut(), "it is written and not synced")
		require.NoError(t, putWithin(l, time.Hour, "n", value.Int(8)))
		time.Sleep(250 * time.Millisecond)
		synctest.Wait()
		assert.EqualValues(t, 8, afterCut(), "the sync covers everything that was written before it")
		require.NoError(t, l.Close())
	})
}

// A compacted file whose sync fails is not put in place of the old one.
func TestSyncOfACompactionFails(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk})
	require.NoError(t, err)
	require.NoError(t, l.Close()) // the file that Open made has the name of a new one for the disk
	var problems []error
	l, err = ledger.Open(dir, "board", ledger.Options{Disk: disk, Small: 2000, Kept: 5, KeptBytes: 400, Problem: func(err error) { problems = append(problems, err) }})
	require.NoError(t, err)
	failed, renamed := 0, 0
	disk.Fault(func(op, path string) error {
		switch {
		case op == "sync" && strings.HasSuffix(path, ".new"):
			failed++
			return syscall.EIO
		case op == "rename":
			renamed++
		}
		return nil
	})
	for i := range 200 {
		require.NoError(t, put(l, "n", value.Int(int64(i))))
	}
	assert.Positive(t, failed)
	assert.Zero(t, renamed)
	require.NotEmpty(t, problems)
	assert.ErrorIs(t, problems[0], syscall.EIO)
	r, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Synced()})
	require.NoError(t, err)
	assert.EqualValues(t, 199, get(r, "n"), "nothing that was acknowledged is lost")
	require.NoError(t, r.Close())
	require.NoError(t, l.Close())
}
