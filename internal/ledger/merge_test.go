package ledger

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
)

// pastOf reads lines as the past of a file, whose header says more.
func pastOf(t *testing.T, more string, lines ...string) (*past, Past) {
	t.Helper()
	disk, dir := simdisk.New(), t.TempDir()
	all := journal.Finish([]byte(`{"format":"small-pantry/1","namespace":"board","schema":0,"id":"h3T0cQ2mZ1yq9oBvXn4eKg",`+more), 0)
	for _, line := range lines {
		all = journal.Finish(append(all, line...), len(all))
	}
	disk.Write(journal.DataPath(dir, "board"), all)
	log, _ := logOf(t, disk, dir)
	head, err := log.Load(newImage(true), soon)
	require.NoError(t, err)
	view, err := log.Past(head)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, view.Close()) })
	p, err := (&Ledger{}).readPast(view)
	require.NoError(t, err)
	return p, view
}

// line is a commit at a minute of a day, without its closing brace.
func lineOf(version, minute int, more string) string {
	return fmt.Sprintf(`{"version":%d,"at":"2026-05-03T09:%02d:00.000Z"%s`, version, minute, more)
}

func setting(name string, n int) string {
	return fmt.Sprintf(`,"set":[{"name":%q,"kind":"int","value":%d}]`, name, n)
}

// bare returns the lines of a file without their ends.
func bare(lines []byte) (out []string) {
	for line := range strings.Lines(string(lines)) {
		out = append(out, line[:strings.LastIndex(line, `,"crc"`)])
	}
	return out
}

var nine = time.Date(2026, 5, 3, 9, 30, 0, 0, time.UTC)

// Merged lines hold all that the run held: the values at its end, keys, schema, members that this program
// doesn't know, and the version, time and end of the last line.
func TestMergedLines(t *testing.T) {
	t.Parallel()
	p, view := pastOf(t, `"base":2,"lines":1,"oldest":0,"end":"0000aaaa"`,
		lineOf(2, 0, setting("a", 1)),
		lineOf(3, 1, `,"by":"Ada","from":"x","schema":2,"weather":"rain","set":[{"name":"a","kind":"int","value":2},{"name":"b","kind":"int","value":1,"unit":"mm"}],"keys":[{"name":"a","kind":"int","about":"first"},{"name":"b","kind":"int"}]`),
		lineOf(6, 1, `,"over":3,"end":"5a3f9c10"`+setting("c", 1)),
		lineOf(7, 1, `,"set":[{"name":"a","kind":"int","value":3}],"drop":["c"],"keys":[{"name":"a","kind":"int","about":"second"},{"name":"b","kind":"int","gone":true}]`),
		lineOf(8, 1, `,"over":1,"end":"77777777"`+setting("d", 1)),
		lineOf(9, 5, setting("d", 2)),
		lineOf(10, 6, setting("a", 4)),
	)
	p.weigh(nine, 0)
	lines, err := p.merged(nil, 0, 4)
	require.NoError(t, err)
	assert.Equal(t, []string{lineOf(8, 1, `,"over":6,"end":"77777777","schema":2,"set":[{"name":"b","kind":"int","value":1,"unit":"mm"},{"name":"a","kind":"int","value":3},{"name":"d","kind":"int","value":1}],"drop":["c"],"keys":[{"name":"a","kind":"int","about":"second"},{"name":"b","kind":"int","gone":true}]`)}, bare(lines))
	lines, err = p.merged(nil, 0, 2)
	require.NoError(t, err)
	assert.Contains(t, string(lines), `"version":6,"at":"2026-05-03T09:01:00.000Z","over":4,"end":"5a3f9c10"`)
	lines, err = p.merged(nil, 0, 1)
	require.NoError(t, err)
	assert.Contains(t, string(lines), `"by":"Ada","from":"x"`, "one alone is told as it was")
	assert.Contains(t, string(lines), `"weather":"rain"`)
	assert.NotContains(t, string(lines), `"over"`)

	base, end := p.baseOf(cuts{}, view)
	assert.Equal(t, []any{int64(2), "0000aaaa"}, []any{base, end.String()}, "where all is kept it is what it was")
	base, end = p.baseOf(cuts{all: 2}, view)
	assert.Equal(t, []any{int64(6), "5a3f9c10"}, []any{base, end.String()}, "the end is that of the last commit of a line of several")
}

// Which lines stay as they are, which become one, and where the kept ones begin.
func TestWhatIsKept(t *testing.T) {
	t.Parallel()
	var lines []string
	for v := 1; v <= 30; v++ { // two in each minute
		name := "busy"
		if v == 4 {
			name = "rare"
		}
		lines = append(lines, lineOf(v, v/2, setting(name, v)))
	}
	p, _ := pastOf(t, `"base":0,"lines":0,"oldest":0`, lines...)
	runs := func(c cuts) string {
		var out []string
		p.runs(c, func(from, to int) {
			if to == from+1 {
				out = append(out, fmt.Sprint(from+1))
			} else {
				out = append(out, fmt.Sprintf("%d-%d", from+1, to))
			}
		})
		return strings.Join(out, " ")
	}
	p.weigh(nine, 2)
	assert.Equal(t, "2-3 4 5 6-7 8-9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30", runs(cuts{}), "the newest 20 of busy, the newest of rare, and each minute's end")
	assert.Equal(t, "2-3 4 5 6-7 8-9 10-11 12-13 14-15 16-17 18-19 20-21 22-23 24-25 26-27 28 29 30", runs(cuts{changes: 30}), "the newest 3 of busy")
	assert.Equal(t, "4 5-27 28 29 30", runs(cuts{changes: 30, points: 30}), "no restore points")
	assert.Equal(t, "28 29 30", runs(cuts{changes: 30, points: 30, all: 4}))
	assert.Equal(t, "20-21 22-23 24-25 26-27 28 29 30", runs(cuts{changes: 30, all: 18}), "a restore point is where the kept lines begin")
	assert.Empty(t, runs(cuts{all: 30}))
	assert.Equal(t, int64(0), p.size(cuts{all: 30}))
	for most := p.size(cuts{}); most >= 0; most -= 50 {
		c := p.within(most)
		require.LessOrEqual(t, p.size(c), most)
		require.True(t, c.points == 0 || c.changes == len(p.lines), "%d: changes go first: %v", most, c)
		require.True(t, c.all == 0 || c.points == len(p.lines), "%d: then restore points: %v", most, c)
		if written, _, err := p.write(nil, c); assert.NoError(t, err) {
			require.InDelta(t, p.size(c), len(written), float64(200+len(written)/3), "what is reckoned is about what is written")
		}
	}
}

// A line of several commits that alone knows the version of a change stays as it is. Other such lines are
// merged again.
func TestLinesOfSeveralAreMergedOn(t *testing.T) {
	t.Parallel()
	p, _ := pastOf(t, `"base":0,"lines":0,"oldest":0`,
		lineOf(5, 1, `,"over":5,"end":"00000005"`+setting("a", 5)),
		lineOf(9, 1, `,"over":4,"end":"00000009"`+setting("only", 1)),
		lineOf(12, 1, `,"over":3,"end":"00000012"`+setting("a", 12)),
		lineOf(15, 1, `,"over":3,"end":"00000015"`+setting("a", 15)),
		lineOf(16, 2, setting("a", 16)),
	)
	p.weigh(nine.Add(40*24*time.Hour), 1)
	var ranks []int32
	for _, l := range p.lines {
		ranks = append(ranks, l.rank)
	}
	assert.Equal(t, []int32{0, 1, 0, 0, 1}, ranks)
	lines, n, err := p.write(nil, cuts{})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	assert.Equal(t, []string{
		lineOf(9, 1, `,"over":4,"end":"00000009"`+setting("only", 1)), lineOf(15, 1, `,"over":6,"end":"00000015"`+setting("a", 15)), lineOf(16, 2, setting("a", 16)),
	}, bare(lines))
}

// What is forgotten is left out of lines; one that says nothing else becomes part
// of a run, unless it says what is no entry.
func TestForgottenLines(t *testing.T) {
	t.Parallel()
	p, view := pastOf(t, `"base":1,"lines":1,"oldest":0`,
		lineOf(1, 0, `,"set":[{"name":"a","kind":"int","value":1},{"name":"gate","kind":"text","value":"rhubarb"}]`),
		lineOf(2, 1, `,"by":"Ada","set":[{"name":"a","kind":"int","value":2},{"name":"gate","kind":"text","value":"marrow"}]`),
		lineOf(3, 1, `,"set":[{"name":"gate","kind":"text","value":"beans"}],"keys":[{"name":"b","kind":"int"}]`),
		lineOf(4, 2, `,"set":[{"name":"gate","kind":"text","value":"peas"}]`),
		lineOf(5, 3, `,"set":[{"name":"gate","kind":"text","value":"peas!"}]`),
		lineOf(6, 4, `,"set":[{"name":"gate","kind":"text","value":"garlic"}]`),
		lineOf(7, 5, `,"set":[{"name":"a","kind":"int","value":3}],"drop":["b"]`),
	)
	p.forget(map[string]bool{"gate": true})
	p.weigh(nine, all)
	lines, _, err := p.write(nil, cuts{})
	require.NoError(t, err)
	assert.Equal(t, []string{
		lineOf(2, 1, `,"by":"Ada"`+setting("a", 2)), lineOf(3, 1, `,"keys":[{"name":"b","kind":"int"}]`), lineOf(4, 2, `,"over":1,"end":"`+p.lines[2].mark.EndOf(p.lines[2].raw).String()+`"`),
		lineOf(5, 3, `,"over":1,"end":"`+p.lines[3].mark.EndOf(p.lines[3].raw).String()+`"`), lineOf(6, 4, `,"set":[{"name":"gate","kind":"text","value":"garlic"}]`), lineOf(7, 5, `,"set":[{"name":"a","kind":"int","value":3}],"drop":["b"]`),
	}, bare(lines), "what a name holds now stays, and so does where each minute ended")
	now := map[string]*Record{
		"a": {Value: value.Int(3), Stamp: &Stamp{Version: 7}}, "gate": {Value: value.Text("garlic"), Stamp: &Stamp{Version: 6}},
	}
	recs, err := p.stateAt(cuts{}, view, func(yield func(Named) bool) {
		for name, rec := range now {
			if !yield(Named{name, rec}) {
				return
			}
		}
	})
	require.NoError(t, err)
	require.Len(t, recs, 1, "at the base there was no other thing")
	assert.Equal(t, []any{"a", "1", int64(1)}, []any{recs[0].Name, recs[0].Value.String(), recs[0].Version})
	recs, err = p.stateAt(cuts{all: 2}, view, func(yield func(Named) bool) {
		for name, rec := range now {
			if !yield(Named{name, rec}) {
				return
			}
		}
	})
	require.NoError(t, err)
	require.Len(t, recs, 1, "what it held in lines before is forgotten too")
	assert.Equal(t, []any{"a", "2", int64(2)}, []any{recs[0].Name, recs[0].Value.String(), recs[0].Version})
}

// Only those removed names are kept that a reader may still ask for.
func TestWhichTombstonesStay(t *testing.T) {
	t.Parallel()
	at := func(version int64, age time.Duration) Named {
		return Named{fmt.Sprint("n", version), &Record{Stamp: &Stamp{Version: version, At: nine.Add(-age).UnixMilli()}}}
	}
	live := Named{"live", &Record{Value: value.Int(1), Stamp: &Stamp{Version: 1}}}
	oldest := int64(3)
	kept := tombstones([]Named{live, at(2, time.Hour), at(3, time.Hour), at(4, 8*24*time.Hour), at(5, 6*24*time.Hour), at(6, 0)}, &oldest, nine)
	var names []string
	for _, k := range kept {
		names = append(names, k.Name)
	}
	assert.Equal(t, []string{"live", "n6", "n5"}, names)
	assert.EqualValues(t, 4, oldest)
}
