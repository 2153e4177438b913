package journal_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
)

// lines is a Consumer that takes lines such as {"version":3 and knows no more.
type lines struct {
	last  journal.Mark
	taken []int64
}

func (l *lines) Decode(line []byte) (journal.Mark, error) {
	l.last = journal.Mark{}
	_, err := fmt.Sscanf(string(line), `{"version":%d`, &l.last.Version)
	l.last.Synced = l.last.Version - 1
	return l.last, err
}

func (l *lines) Accept() { l.taken = append(l.taken, l.last.Version) }

func line(version int64) []byte {
	return journal.Finish(fmt.Appendf(nil, `{"version":%d`, version), 0)
}

func attach(t *testing.T, dir string, readOnly bool) *journal.File {
	f, err := journal.Attach(journal.OS, dir, "plotbook", readOnly)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, f.Close()) })
	return f
}

func TestLocks(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "made")
	w, w2 := attach(t, dir, false), attach(t, dir, false)
	r, r2 := attach(t, dir, true), attach(t, dir, true)
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.EqualValues(t, 0o700, info.Mode().Perm())
	require.NoError(t, w.Lock(true, time.Second))
	for _, f := range []*journal.File{w2, r} {
		assert.ErrorIs(t, f.Lock(true, time.Millisecond), journal.ErrBusy)
	}
	require.NoError(t, w.Unlock())
	require.NoError(t, r.Lock(true, time.Second))
	require.NoError(t, r2.Lock(true, time.Second), "readers share")
	assert.ErrorIs(t, w.Lock(true, time.Millisecond), journal.ErrBusy)
	require.NoError(t, r.Unlock())
	require.NoError(t, r2.Unlock())
	got := make(chan error)
	require.NoError(t, w2.Lock(true, time.Second))
	go func() { got <- w.Lock(true, 10*time.Second) }()
	require.NoError(t, w2.Unlock())
	require.NoError(t, <-got, "who waits gets it")
	require.NoError(t, w.Unlock())
}

// A replaced lock file locks nothing. A caller that finds it replaced gets the new one, or none, also if no
// time is left.
func TestReplacedLock(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	w := attach(t, dir, false)
	require.NoError(t, w.Lock(true, time.Second))
	require.NoError(t, w.Unlock())
	path := filepath.Join(dir, ".plotbook.lock")
	replace := func() *journal.File {
		require.NoError(t, os.Remove(path))
		return attach(t, dir, false)
	}
	for _, wait := range []time.Duration{0, time.Millisecond} {
		other := replace()
		require.NoError(t, other.Lock(true, time.Second))
		assert.ErrorIs(t, w.Lock(true, wait), journal.ErrBusy, wait)
		require.NoError(t, other.Unlock())
		require.NoError(t, w.Lock(true, wait))
		assert.ErrorIs(t, other.Lock(true, 0), journal.ErrBusy, "it is the one that all have")
		require.NoError(t, w.Unlock())
	}
	replace()
	require.NoError(t, w.Lock(true, 0), "it is free")
	assert.ErrorIs(t, attach(t, dir, false).Lock(true, 0), journal.ErrBusy)
	require.NoError(t, w.Unlock())
}

// A path may be as long as the system takes, and is the same file at any length.
func TestLongPaths(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	for _, length := range []int{200, 230, 254, 255, 256, 257, 300, 1000} {
		dir := root
		for part := length - len(journal.DataPath(dir, "plotbook")); part > 0; part = length - len(journal.DataPath(dir, "plotbook")) {
			dir = filepath.Join(dir, strings.Repeat("d", max(min(part-1, 200), 1)))
		}
		f := attach(t, dir, false)
		require.NoError(t, f.Lock(true, 0))
		require.NoError(t, f.Rewrite(journal.Header{Name: "plotbook", ID: "ABC"}, nil, 0, 0, journal.End{}))
		for _, replace := range []bool{false, true} {
			if replace {
				require.NoError(t, os.Rename(f.Path(), f.Path()+"2"))
				require.NoError(t, os.WriteFile(f.Path(), nil, 0o600))
			}
			replaced, _, err := f.Fresh()
			require.NoError(t, err)
			assert.Equal(t, replace, replaced, "%d bytes", len(f.Path()))
		}
		require.NoError(t, f.Unlock())
	}
	_, err := journal.OS.Look(root + "/a\x00b")
	assert.ErrorIs(t, err, syscall.EINVAL)
}

func TestFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f := attach(t, dir, false)
	_, err := f.Load(&lines{})
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, f.Rewrite(journal.Header{Name: "plotbook", ID: "ABC", Base: 4, Lines: 1}, line(2), 1, 4, journal.End{}))
	require.NoError(t, f.Append(append(line(5), line(6)...)))
	require.NoError(t, f.Sync())
	f.Advance(append(line(5), line(6)...), 2, 6)

	other := attach(t, dir, true)
	c := &lines{}
	r, err := other.Load(c)
	require.NoError(t, err)
	assert.Nil(t, r.Tail)
	assert.Zero(t, other.Version(), "nothing has moved yet")
	other.Adopt(r, false)
	assert.Equal(t, []int64{2, 5, 6}, c.taken)
	assert.EqualValues(t, 6, other.Version())
	require.NoError(t, f.Append(append(line(7), []byte(`{"vers`)...)))
	replaced, grown, err := other.Fresh()
	require.NoError(t, err)
	assert.Equal(t, []bool{false, true}, []bool{replaced, grown})
	r, err = other.ReadOn(c)
	require.NoError(t, err)
	assert.Equal(t, []any{1, `{"vers`, 6}, []any{r.Taken, string(r.Tail.Bytes), r.Tail.Line})
	require.NoError(t, f.Rewrite(journal.Header{Name: "plotbook", ID: "ABC", Base: 7}, nil, 0, 7, journal.End{}))
	replaced, _, err = other.Fresh()
	require.NoError(t, err)
	assert.True(t, replaced)
	info, err := os.Stat(f.Path())
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
}

// A file that another program appends to is recognized, with any kind of end. A copy that was written into
// it is not.
func TestKnownAgain(t *testing.T) {
	t.Parallel()
	up := func(from, to int64) (lines []byte) {
		for v := from; v <= to; v++ {
			lines = append(lines, line(v)...)
		}
		return lines
	}
	for name, c := range map[string]struct{ kept, added, read int64 }{
		"nothing but a header":   {},
		"rewritten, a few lines": {kept: 2},
		"rewritten, many lines":  {kept: 20},
		"a line added":           {kept: 2, added: 1},
		"many lines added":       {kept: 2, added: 20},
		"a line read":            {kept: 20, read: 1},
		"many lines read":        {kept: 2, added: 1, read: 20},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			f, other := attach(t, dir, false), attach(t, dir, false)
			at := c.kept
			require.NoError(t, f.Rewrite(journal.Header{Name: "plotbook", ID: "ABC"}, up(1, at), int(at), at, journal.End{}))
			r, err := other.Load(&lines{})
			require.NoError(t, err)
			other.Adopt(r, false)
			add := func(f *journal.File, n int64) {
				require.NoError(t, f.Append(up(at+1, at+n)))
				if n > 0 {
					f.Advance(up(at+1, at+n), int(n), at+n)
				}
				at += n
			}
			add(f, c.added)
			for _, n := range []int64{c.read, 1} {
				r, err = other.ReadOn(&lines{})
				require.NoError(t, err)
				other.Adopt(r, false)
				add(other, n)
				for range 2 { // what is read and not adopted leaves the file as it was
					replaced, grown, err := f.Fresh()
					require.NoError(t, err)
					assert.Equal(t, []bool{false, n > 0}, []bool{replaced, grown})
					r, err = f.ReadOn(&lines{})
					require.NoError(t, err)
				}
				f.Adopt(r, false)
			}
			copied, err := os.ReadFile(f.Path())
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(f.Path(), append(append(copied[:len(copied)-20:len(copied)-20], '0'), copied[len(copied)-19:]...), 0o600))
			add(other, 1)
			replaced, _, err := f.Fresh()
			require.NoError(t, err)
			assert.True(t, replaced)
		})
	}
}

// A reader distinguishes a torn end from damage.
func TestTornOrDamaged(t *testing.T) {
	t.Parallel()
	header := func(base, n int64) string {
		dir := t.TempDir()
		f := attach(t, dir, false)
		require.NoError(t, f.Rewrite(journal.Header{Name: "plotbook", Base: base, Lines: n}, nil, int(n), base, journal.End{}))
		b, err := os.ReadFile(f.Path())
		require.NoError(t, err)
		return string(b)
	}
	l := func(version int64) string { return string(line(version)) }
	for name, c := range map[string]struct {
		file    string
		last    int64
		damaged bool
	}{
		"whole":                        {header(0, 0) + l(1) + l(2), 2, false},
		"zeros at the end":             {header(0, 0) + l(1) + "\x00\x00\x00", 1, false},
		"half a line":                  {header(0, 0) + l(1) + l(2)[:9], 1, false},
		"a line without its newline":   {header(0, 0) + l(1) + l(2)[:len(l(2))-1], 1, false},
		"a gap in the versions":        {header(0, 0) + l(1) + l(3), 1, true},
		"a version again":              {header(0, 0) + l(1) + l(1), 1, false},
		"a bad line before a good one": {header(0, 0) + l(1) + "{}\n" + l(3), 1, true},
		"a bad line before a next one": {header(0, 0) + l(1) + "{}\n" + l(2), 1, false},
		"a lost newline":               {header(0, 0) + l(1) + "{}" + l(3), 1, true},
		"too few lines at the base":    {header(5, 2) + l(3), 3, true},
		"a high version at the base":   {header(5, 1) + l(6), 0, true},
		"another order at the base":    {header(5, 2) + l(3) + l(2), 3, true},
		"base and commits":             {header(5, 1) + l(3) + l(6), 6, false},
		"no header":                    {l(1), 0, true},
		"nothing":                      {"", 0, true},
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(journal.DataPath(dir, "plotbook"), []byte(c.file), 0o600))
		f := attach(t, dir, true)
		r, err := f.Load(&lines{})
		_, damaged := journal.AsDamage(err)
		assert.Equal(t, c.damaged, damaged, "%s: %v", name, err)
		if !damaged {
			require.NoError(t, err, name)
			assert.Equal(t, c.last, r.Version(), name)
		}
		r.Close()
	}
	dir := t.TempDir()
	newer := journal.Finish([]byte(`{"format":"small-pantry/2"`), 0)
	require.NoError(t, os.WriteFile(journal.DataPath(dir, "plotbook"), newer, 0o600))
	_, err := attach(t, dir, true).Load(&lines{})
	assert.ErrorAs(t, err, new(*journal.NewerError))
}
