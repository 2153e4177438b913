package ledger_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// writeFile makes a journal of lines without their ends.
func writeFile(t *testing.T, dir, name string, lines ...string) string {
	t.Helper()
	var data []byte
	for _, line := range lines {
		data = journal.Finish(append(data, line...), len(data))
	}
	path := journal.DataPath(dir, name)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	return path
}

func openPlain(t *testing.T, dir string, o ledger.Options) *ledger.Ledger {
	t.Helper()
	if o.Problem == nil {
		o.Problem = func(err error) { t.Error(err) }
	}
	l, err := ledger.Open(dir, "plotbook", o)
	require.NoError(t, err)
	return l
}

func linesOf(t *testing.T, path string) []string {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return strings.SplitAfter(strings.TrimSuffix(string(data), "\n"), "\n")
}

func crcOf(line string) string {
	return strings.TrimSuffix(line, "\n")[len(strings.TrimSuffix(line, "\n"))-10:][:8]
}

func header(base, lines int, more string) string {
	return fmt.Sprintf(`{"format":"small-pantry/1","namespace":"plotbook","schema":0,"id":"h3T0cQ2mZ1yq9oBvXn4eKg","base":%d,"lines":%d,"oldest":0%s`, base, lines, more)
}

func set(version int, more, name string, n int) string {
	return fmt.Sprintf(`{"version":%d,"at":"2026-05-03T09:12:44.123Z"%s,"set":[{"name":%q,"kind":"int","value":%d}]`, version, more, name, n)
}

// Members that a later version has written are kept, in every way of rewriting the file.
func TestMembersOfALaterVersion(t *testing.T) {
	t.Parallel()
	for name, rewritten := range map[string]func(t *testing.T, l *ledger.Ledger){
		"compacted": func(t *testing.T, l *ledger.Ledger) {
			for n := range 60 {
				require.NoError(t, put(l, "litres", value.Int(int64(n))))
			}
		},
		"forgotten": func(t *testing.T, l *ledger.Ledger) { require.NoError(t, l.Forget()) },
		"renewed":   func(t *testing.T, l *ledger.Ledger) { require.NoError(t, l.Renew()) },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			path := writeFile(t, dir, "plotbook", header(0, 0, `,"shelf":{"a":[1,2]}`),
				`{"version":1,"at":"2026-05-03T09:12:44.123Z","mood":"calm","set":[{"name":"plot","kind":"text","value":"C4","unit":"bed"},{"name":"hour","kind":"int","value":7}],"keys":[{"name":"plot","kind":"text","default":"","tone":5}]`)
			l := openPlain(t, dir, ledger.Options{Kept: 1, KeptBytes: 1, Small: 1})
			rewritten(t, l)
			require.NoError(t, l.Close())
			lines := linesOf(t, path)
			assert.Contains(t, lines[0], `,"shelf":{"a":[1,2]}`)
			all := strings.Join(lines[1:], "")
			assert.Contains(t, all, `{"name":"plot","kind":"text","value":"C4","unit":"bed"}`)
			assert.Contains(t, all, `,"mood":"calm"`)
			assert.Contains(t, all, `{"name":"plot","kind":"text","default":"","tone":5}`)
			assert.Contains(t, all, `{"name":"hour","kind":"int","value":7}`)
			for _, line := range lines {
				assert.True(t, json.Valid([]byte(line)), line)
			}
			l = openPlain(t, dir, ledger.Options{})
			require.NoError(t, put(l, "plot", value.Text("A2")))
			assert.NotContains(t, linesOf(t, path)[len(linesOf(t, path))-1], "unit", "another value is another entry")
			require.NoError(t, l.Close())
		})
	}
}

// The header keeps the crc of the base commit's line as it was first written, over all compactions, so that
// two histories can be distinguished.
func TestEndOutlivesCompaction(t *testing.T) {
	t.Parallel()
	for name, o := range map[string]ledger.Options{
		"few commits kept": {Kept: 3, KeptBytes: 2000, Small: 1},
		"few bytes kept":   {Kept: 1000, KeptBytes: 700, Small: 1},
		"one kept":         {Kept: 1, KeptBytes: 1, Small: 1},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			l := openPlain(t, dir, o)
			ends, moved := map[int64]string{0: ""}, map[int64]bool{}
			for n := range 200 {
				require.NoError(t, put(l, fmt.Sprint("beds/", n%5), value.Int(int64(n))))
				lines := linesOf(t, l.Path())
				last := lines[len(lines)-1]
				ends[l.Version()] = crcOf(last)
				var h struct {
					Base int64
					End  string
				}
				require.NoError(t, json.Unmarshal([]byte(lines[0]), &h))
				require.Equal(t, ends[h.Base], h.End, "base %d", h.Base)
				moved[h.Base] = true
				if n%30 == 0 {
					require.NoError(t, l.Close())
					l = openPlain(t, dir, o)
				}
			}
			assert.Greater(t, len(moved), 2)
			require.NoError(t, l.Forget())
			assert.Contains(t, linesOf(t, l.Path())[0], fmt.Sprintf(`"base":200,"lines":5,"oldest":200,"end":%q`, ends[200]))
			require.NoError(t, l.Forget())
			assert.Contains(t, linesOf(t, l.Path())[0], fmt.Sprintf(`"end":%q`, ends[200]), "with no commit since")
			require.NoError(t, l.Close())
		})
	}
}

// A line can hold several commits. Its end is known, and the marks within it are not.
func TestSeveralCommitsInOneLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := writeFile(t, dir, "plotbook", header(3, 1, `,"end":"0000aaaa"`), set(2, "", "hour", 2),
		set(4, "", "hour", 4), set(9, `,"over":5,"end":"5a3f9c10"`, "hour", 9), set(10, "", "plot", 10), set(12, `,"over":2,"end":"77777777"`, "hour", 12))
	l := openPlain(t, dir, ledger.Options{})
	assert.EqualValues(t, 12, l.Version())
	for version, want := range map[int64]int64{3: 2, 4: 4, 9: 9, 10: 9, 12: 12} {
		entries, err := l.At(version)
		require.NoError(t, err)
		assert.Equal(t, want, stateOf(entries)["hour"], "at %d", version)
	}
	for _, version := range []int64{2, 5, 8, 11} {
		_, err := l.At(version)
		assert.ErrorIs(t, err, ledger.ErrTooOld, "at %d", version)
	}
	history, err := l.History(0)
	require.NoError(t, err)
	require.Len(t, history, 2, "commits, one by one")
	assert.EqualValues(t, 10, history[0].Version)
	assert.Equal(t, []entry.Change{{Name: "hour", Old: value.Int(2), New: value.Int(4)}}, history[1].Changes)

	// All commits since are the state. The end is that of the line's last commit.
	require.NoError(t, l.Forget())
	assert.Contains(t, linesOf(t, path)[0], `"base":12,"lines":2,"oldest":12,"end":"77777777"`)
	require.NoError(t, put(l, "hour", value.Int(13)))
	assert.EqualValues(t, 13, l.Version())
	require.NoError(t, l.Close())
}

// A line has the schema once, and again if a compaction removed that line.
func TestSchemaIsToldOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l := openPlain(t, dir, ledger.Options{Schema: 3, Small: 1, Kept: 2, KeptBytes: 200})
	for n := range 100 {
		require.NoError(t, put(l, "hour", value.Int(int64(n))))
	}
	lines := linesOf(t, l.Path())
	assert.NotContains(t, lines[0], `"base":0`)
	assert.Equal(t, 1, strings.Count(strings.Join(lines[1:], ""), `"schema":3`))
	require.NoError(t, l.Close())
}

// What is lost side by side is one loss.
func TestLossesSideBySide(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := writeFile(t, dir, "plotbook", header(0, 0, ""), set(1, "", "a", 1), set(2, "", "b", 2), set(3, "", "c", 3), set(4, "", "d", 4), set(5, "", "e", 5), set(6, "", "f", 6))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, name := range []string{"b", "c", "e"} {
		data = bytes.Replace(data, []byte(`"name":"`+name+`"`), []byte(`"name":"X"`), 1)
	}
	require.NoError(t, os.WriteFile(path, data, 0o600))
	var damage *ledger.Damage
	l := openPlain(t, dir, ledger.Options{Salvage: true, Problem: func(err error) { require.ErrorAs(t, err, &damage) }})
	require.NotNil(t, damage)
	require.Len(t, damage.Lost, 2)
	assert.Equal(t, []int{3, 6}, []int{damage.Lost[0].Line, damage.Lost[1].Line})
	assert.Equal(t, 2*damage.Lost[1].Bytes, damage.Lost[0].Bytes)
	require.NoError(t, l.Close())
}

// A line that does not follow the last one is not read. It says that the lines before it were synced, so
// they are missing.
func TestLineOfSeveralThatDoesNotFit(t *testing.T) {
	t.Parallel()
	for over, fits := range map[string]bool{"5": true, "4": false, "6": false} {
		dir := t.TempDir()
		writeFile(t, dir, "plotbook", header(3, 0, ""), set(4, "", "hour", 4), set(9, `,"over":`+over, "hour", 9))
		l, err := ledger.Open(dir, "plotbook", ledger.Options{})
		_, damaged := journal.AsDamage(err)
		assert.Equal(t, !fits, damaged, "%s: %v", over, err)
		if err == nil {
			require.NoError(t, l.Close())
		}
	}
	for _, over := range []string{"0", "-1", `"5"`} {
		dir := t.TempDir()
		writeFile(t, dir, "plotbook", header(3, 0, ""), set(4, "", "hour", 4), set(5, `,"over":`+over, "hour", 9))
		cut := (*ledger.CutError)(nil)
		l := openPlain(t, dir, ledger.Options{Problem: func(err error) { require.ErrorAs(t, err, &cut) }})
		assert.NotNil(t, cut, "over %s", over)
		assert.EqualValues(t, 4, l.Version())
		require.NoError(t, l.Close())
	}
}

// Where the header's own newline is gone, the line behind it is saved too.
func TestHeaderWithoutItsNewline(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := writeFile(t, dir, "plotbook", header(0, 0, ""), set(1, "", "hour", 7))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(data), "\n", "", 1)), 0o600))
	l := openPlain(t, dir, ledger.Options{Salvage: true, Problem: func(error) {}})
	assert.EqualValues(t, 7, get(l, "hour"))
	require.NoError(t, l.Close())
}

// A salvaged file keeps its header's members, without the end of the base commit, whose line is not known.
func TestHeaderOfASalvagedFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := writeFile(t, dir, "plotbook", header(0, 0, `,"shelf":5`), set(1, "", "hour", 1), set(2, "", "hour", 2), set(3, "", "plot", 3))
	l := openPlain(t, dir, ledger.Options{Salvage: true, Problem: func(error) {}})
	require.NoError(t, put(l, "hour", value.Int(4)))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(data), `"hour",`, `"hour,`, 1)), 0o600))
	require.NoError(t, l.Refresh())
	for range 2 {
		lines := linesOf(t, path)
		assert.Contains(t, lines[0], `"base":4,`)
		assert.Contains(t, lines[0], `,"shelf":5`)
		assert.NotContains(t, lines[0], `"end"`)
		require.NoError(t, l.Forget())
	}
	assert.EqualValues(t, 4, get(l, "hour"))
	require.NoError(t, l.Close())
}

// A commit larger than all that is kept of the past has the file begin behind it.
func TestEndOfALargeCommit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	l := openPlain(t, dir, ledger.Options{Kept: 200, KeptBytes: 1, Small: 1})
	name := func(i int) string { return fmt.Sprintf("%03d/%s", i, strings.Repeat("n", 240)) }
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		for i := range 300 {
			e, err := ledger.Encode(value.Int(1))
			require.NoError(t, err)
			tx.Put(name(i), e)
		}
		return nil
	})
	require.NoError(t, err)
	first := crcOf(linesOf(t, l.Path())[1])
	require.NoError(t, l.Close()) // which forgets up to which size it was not worth it
	l = openPlain(t, dir, ledger.Options{Kept: 200, KeptBytes: 1, Small: 1})
	_, err = l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		for i := range 300 {
			tx.Drop(name(i))
		}
		return nil
	})
	require.NoError(t, err)
	end := l.Version()
	lines := linesOf(t, l.Path())
	var h struct {
		Base int64
		End  string
	}
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &h))
	assert.Equal(t, end, h.Base)
	assert.Len(t, h.End, 8)
	assert.NotEqual(t, first, h.End)
	require.NoError(t, l.Close())
	// And so it stays, where no commit has followed.
	l = openPlain(t, dir, ledger.Options{})
	require.NoError(t, l.Forget())
	assert.Contains(t, linesOf(t, l.Path())[0], h.End)
	require.NoError(t, l.Close())
}

// A reader of a file gets what its writer has: the commit, its time and its author, for every form of lines.
func TestLoadedAsWritten(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	now := time.Date(2026, 5, 3, 9, 12, 44, 0, time.UTC)
	o := ledger.Options{Now: func() time.Time { now = now.Add(1234 * time.Millisecond); return now }}
	l := openPlain(t, dir, o)
	for n := range 100 {
		author := entry.Author{}
		if n%7 == 0 {
			author = entry.Author{By: "tankwatch", From: fmt.Sprint(n)}
		}
		_, err := l.Commit(author, func(tx *ledger.Tx) error {
			for i := range 1 + n%3 {
				name := fmt.Sprint("beds/", (n+i*5)%11)
				if n%5 == 4 {
					tx.Drop(name)
					continue
				}
				e, err := ledger.Encode(value.Int(int64(n)))
				if n%2 == 0 {
					e, err = ledger.Encode(value.Text(strings.Repeat("x", n)))
				}
				require.NoError(t, err)
				tx.Put(name, e)
			}
			return nil
		})
		require.NoError(t, err)
	}
	told := func(l *ledger.Ledger) (out []entry.Entry) {
		s := l.Snapshot()
		defer s.Release()
		for e := range s.Entries("", "") {
			out = append(out, e.Entry())
		}
		return out
	}
	want := told(l)
	require.NoError(t, l.Close())
	l = openPlain(t, dir, o)
	assert.NotEmpty(t, want)
	assert.Equal(t, want, told(l))
	require.NoError(t, l.Close())
}

// So many commits stay as are to stay, also where they take several reads.
func TestLongCommitsStay(t *testing.T) {
	t.Parallel()
	l := openPlain(t, t.TempDir(), ledger.Options{Small: 1})
	for n, size := 0, 0; ; n++ {
		require.NoError(t, put(l, "note", value.Text(fmt.Sprint(n, strings.Repeat("x", 1000)))))
		info, err := os.Stat(l.Path())
		require.NoError(t, err)
		if int(info.Size()) < size {
			break
		}
		size = int(info.Size())
		require.Less(t, n, 5000, "it was not compacted")
	}
	history, err := l.History(0)
	require.NoError(t, err)
	assert.Len(t, history, 200)
	require.NoError(t, l.Close())
}
