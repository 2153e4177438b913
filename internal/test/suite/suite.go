// Package suite tests what commits mean, on every kind of storage: a plain map, files, a server over HTTP.
// Every board must return the same answers, also after it was closed and opened, and although each judge
// runs twice.
package suite

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A Board is what the suite runs on.
type Board interface {
	Commit(edits []entry.Edit) (rules.Outcome, error)
	Entries() ([]entry.Entry, error) // by the byte order of their names
	Reopen() error                   // closes it and opens it again
}

// OnLedger is a Board on a ledger, which With lends for as long as f runs.
type OnLedger struct {
	With  func(f func(l *ledger.Ledger) error) error
	Again func() error // closes it and opens it again
}

var _ Board = OnLedger{}

// Commit makes edits, as gatehouse does.
func (b OnLedger) Commit(edits []entry.Edit) (out rules.Outcome, err error) {
	err = b.With(func(l *ledger.Ledger) error {
		out, err = rules.Commit(l, rules.Call{Who: entry.Author{By: "gatehouse"}, Edits: edits})
		return err
	})
	return out, err
}

// Entries returns the current entries, by any author.
func (b OnLedger) Entries() (out []entry.Entry, err error) {
	err = b.With(func(l *ledger.Ledger) error {
		if err := l.Current(context.Background()); err != nil {
			return err
		}
		snap := l.Snapshot()
		defer snap.Release()
		for e := range snap.Entries("", "") {
			out = append(out, e.Entry())
		}
		return nil
	})
	return out, err
}

// Reopen is Again.
func (b OnLedger) Reopen() error { return b.Again() }

// A Code returns the code of a board's error, and the edit it is about.
type Code func(error) (code string, edit int)

// CodeOf is the Code of an error that the rules gave.
func CodeOf(err error) (code string, edit int) {
	p := wire.ProblemOf(err)
	return string(p.Code), p.Op
}

// Run runs the suite on boards that are empty when they are made.
func Run(t *testing.T, code Code, fresh func(t testing.TB) Board) {
	t.Run("steps", func(t *testing.T) { runSteps(t, code, fresh(t)) })
	t.Run("random", func(t *testing.T) { RunRandom(t, code, fresh) })
}

// RunRandom runs random commits on boards, and on a plain map beside them.
func RunRandom(t *testing.T, code Code, fresh func(t testing.TB) Board) {
	rapid.Check(t, func(rt *rapid.T) { runRandom(rt, code, fresh(t)) })
}

// steps are commits, one after the other, with what they must answer: the
// version, the entries and the names that are gone, and of each edit + or - for
// whether it changed something, with what was taken; or the code of the refusal
// and its edit.
var steps = []struct{ ops, want string }{
	{`{"op":"put","name":"gate/open","value":true},{"op":"add","name":"n","amount":2},{"op":"add","name":"n","amount":3}`, "1 gate/open=true n=5 +++"},
	{`{"op":"put","name":"gate/open","value":true}`, "1 gate/open=true -"},
	{`{"op":"drop","name":"n"},{"op":"put","name":"n","value":5}`, "1 n=5 ++"}, // all in all, nothing
	{`{"op":"drop","name":"nothing"}`, "absent 0"},
	{`{"op":"put","name":"x","value":1},{"op":"drop","name":"nothing"}`, "absent 1"},
	{`{"op":"put","name":"x","value":1},{"op":"add","name":"gate/open","amount":1}`, "wrong-kind 1"},
	{`{"op":"put","name":"x","value":1},{"op":"drop","name":"n","if":7}`, "conflict 1"},
	{`{"op":"put","name":"n","value":1,"if":0}`, "conflict 0"},
	{`{"op":"put","name":"n","value":6,"if":1},{"op":"add","name":"n","amount":1,"if":"1"}`, "2 n=7 ++"}, // about the state before the commit
	{`{"op":"put","name":"n","value":8,"if":"2-1"}`, "conflict 0"},
	{`{"op":"put","name":"new","value":8,"if":0},{"op":"put","name":"new","value":9,"if":0}`, "3 new=9 ++"},
	{`{"op":"put","name":"n","value":"a"}`, "wrong-kind 0"},
	{`{"op":"put","name":"n","value":"8"}`, "wrong-kind 0"},
	{`{"op":"put","name":"n","value":8.0}`, "4 n=8 +"},
	{`{"op":"put","name":"n","typed":"9"}`, "5 n=9 +"},
	{`{"op":"put","name":"n","typed":"much"}`, "wrong-kind 0"},
	{`{"op":"put","name":"n","value":"five","kind":"text"}`, "6 n=five +"},
	{`{"op":"put","name":"n","value":"5","kind":"int"}`, "invalid 0"},
	{`{"op":"put","name":"n","typed":"5","kind":"int"}`, "7 n=5 +"},
	{`{"op":"put","name":"n","value":null}`, "wrong-kind 0"},
	{`{"op":"put","name":"y","value":null}`, "invalid 0"},
	{`{"op":"put","name":"at","value":"2026-05-03T09:12:44Z","as":"time"},{"op":"put","name":"raw","value":"AP8=","as":"bytes"},{"op":"put","name":"kg","value":5.0},{"op":"put","name":"word","typed":"0042"}`, "8 at=2026-05-03T09:12:44Z kg=5.0 raw=AP8= word=0042 ++++"},
	{`{"op":"put","name":"at","value":"2026-05-03T09:12:45Z"},{"op":"put","name":"kg","value":6},{"op":"put","name":"raw","value":"AAA="}`, "9 at=2026-05-03T09:12:45Z kg=6.0 raw=AAA= +++"},
	{`{"op":"put","name":"at","value":"noon"}`, "invalid 0"},
	{`{"op":"put","name":"kg","value":"NaN"}`, "wrong-kind 0"},
	{`{"op":"put","name":"kg","value":"NaN","as":"float"}`, "10 kg=NaN +"},
	{`{"op":"put","name":"kg","value":"NaN","as":"float"}`, "10 kg=NaN -"},
	{`{"op":"add","name":"n","amount":10,"max":12}`, "out-of-range 0"},
	{`{"op":"add","name":"n","amount":9223372036854775807}`, "out-of-range 0"},
	{`{"op":"add","name":"litres","amount":-10,"start":420,"min":0}`, "11 litres=410 +"},
	{`{"op":"raise","name":"marrow","to":2350},{"op":"raise","name":"marrow","to":2000},{"op":"lower","name":"frost","to":-3}`, "12 frost=-3 marrow=2350 +-+"},
	{`{"op":"append","name":"q","item":"C4"},{"op":"append","name":"q","item":"B2"},{"op":"append","name":"q","item":"C4","unique":true}`, `13 q=["C4","B2"] ++-`},
	{`{"op":"take","name":"q","at":0},{"op":"take","name":"q","at":-1}`, `14 q=[] +C4+B2`},
	{`{"op":"take","name":"q","at":0}`, "absent 0"},
	{`{"op":"take","name":"nothing","at":0}`, "absent 0"},
	{`{"op":"append","name":"q","item":1},{"op":"append","name":"q","item":1},{"op":"append","name":"q","item":2,"keep":2},{"op":"remove","name":"q","item":1}`, "15 q=[2] ++++"},
	{`{"op":"append","name":"q","item":2},{"op":"remove","name":"q","item":2,"all":true}`, "16 q=[] ++"},
	{`{"op":"reset","prefix":"gate/"},{"op":"put","name":"gate/shut","value":true}`, "17 gate/shut=true -gate/open ++"},
	{`{"op":"reset","prefix":"gate/"},{"op":"reset","prefix":"gate/"}`, "18 -gate/shut +-"},
	{`{"op":"reset","prefix":"none/"}`, "18 -"},
	{`{"op":"put","name":"big","value":"` + strings.Repeat("x", 1<<20) + `"}`, "too-large 0"},
	{`{"op":"reset","prefix":""}`, "19 -at -frost -kg -litres -marrow -n -new -q -raw -word +"},
}

func runSteps(t *testing.T, code Code, b Board) {
	for _, step := range steps {
		edits, err := wire.ReadEdits([]byte(`{"ops":[` + step.ops + `]}`))
		require.NoError(t, err, "%.200s", step.ops)
		out, err := b.Commit(edits)
		assert.Equal(t, step.want, tell(out, err, code), "%.200s", step.ops)
		if err == nil {
			for _, e := range out.Entries {
				assert.Positive(t, e.Version)
				assert.False(t, e.Updated.IsZero())
			}
		}
		before, err := b.Entries()
		require.NoError(t, err)
		require.NoError(t, b.Reopen())
		after, err := b.Entries()
		require.NoError(t, err)
		assert.Equal(t, listed(before), listed(after), "after reopening")
	}
}

// tell writes an answer as steps have it.
func tell(out rules.Outcome, err error, code Code) string {
	if err != nil {
		code, edit := code(err)
		return fmt.Sprint(code, " ", edit)
	}
	words := []string{fmt.Sprint(out.Version)}
	slices.SortFunc(out.Entries, func(a, b entry.Entry) int { return strings.Compare(a.Name, b.Name) })
	for _, e := range out.Entries {
		words = append(words, e.Name+"="+e.Value.String())
	}
	slices.SortFunc(out.Gone, func(a, b entry.Gone) int { return strings.Compare(a.Name, b.Name) })
	for _, g := range out.Gone {
		words = append(words, "-"+g.Name)
	}
	results := ""
	for _, r := range out.Results {
		sign := "-"
		if r.Changed {
			sign = "+"
		}
		results += sign + r.Taken.String()
	}
	return strings.Join(append(words, results), " ")
}

func listed(entries []entry.Entry) []string {
	out := make([]string, len(entries))
	for i, e := range entries {
		out[i] = string(e.AppendJSON(nil))
	}
	return out
}

// runRandom makes random commits on a board and on a plain map.
func runRandom(rt *rapid.T, code Code, b Board) {
	model := NewMap()
	for range rapid.IntRange(1, 12).Draw(rt, "commits") {
		var edits []entry.Edit
		for range rapid.IntRange(1, 4).Draw(rt, "edits") {
			edits = append(edits, drawEdit(rt, model.version))
		}
		want, wantErr := model.Commit(edits)
		got, err := b.Commit(edits)
		require.Equal(rt, tell(want, wantErr, CodeOf), tell(got, err, code), "%s", wire.AppendEdits(nil, edits))
		if rapid.IntRange(0, 9).Draw(rt, "reopen") == 0 {
			require.NoError(rt, b.Reopen())
		}
		have, err := b.Entries()
		require.NoError(rt, err)
		wanted, _ := model.Entries()
		require.Equal(rt, values(wanted), values(have))
	}
}

func values(entries []entry.Entry) []string {
	out := make([]string, len(entries))
	for i, e := range entries {
		out[i] = fmt.Sprint(e.Name, " ", e.Value.Kind(), " ", e.Value, " ", e.Version)
	}
	return out
}

func drawEdit(rt *rapid.T, version int64) entry.Edit {
	e := entry.Edit{Name: rapid.SampledFrom([]string{"a", "b", "p/a", "p/b"}).Draw(rt, "name")}
	number := value.Int(rapid.Int64Range(-3, 3).Draw(rt, "number"))
	op := &e.Op
	op.Verb = rapid.SampledFrom([]value.Verb{value.Put, value.Drop, value.Add, value.Raise, value.Lower, value.Append, value.Remove, value.Take}).Draw(rt, "verb")
	op.Operand = number
	switch op.Verb {
	case value.Put:
		if rapid.Bool().Draw(rt, "list") {
			op.Operand = value.List(number)
		}
		op.Kind = op.Operand.Kind()
	case value.Add:
		if rapid.Bool().Draw(rt, "bounded") {
			op.Max = value.Int(4)
		}
	case value.Append:
		op.Unique, op.Keep = rapid.Bool().Draw(rt, "unique"), rapid.IntRange(0, 2).Draw(rt, "keep")
	case value.Remove:
		op.All = rapid.Bool().Draw(rt, "all")
	case value.Take:
		op.At = rapid.IntRange(-1, 1).Draw(rt, "at")
	}
	switch rapid.IntRange(0, 9).Draw(rt, "kind of edit") {
	case 0:
		return entry.Edit{Reset: true, Prefix: rapid.SampledFrom([]string{"", "p/", "q/"}).Draw(rt, "prefix")}
	case 1:
		e.Cond = entry.Cond{Is: []entry.Tag{{Version: rapid.Int64Range(0, version+1).Draw(rt, "if")}}}
	}
	return e
}

// A Map is a board that is a plain map: what every other must be like.
type Map struct {
	entries map[string]entry.Entry
	version int64
}

// NewMap returns an empty Map.
func NewMap() *Map { return &Map{entries: map[string]entry.Entry{}} }

// Commit makes edits, all or none.
func (m *Map) Commit(edits []entry.Edit) (out rules.Outcome, err error) {
	now := map[string]value.Value{}
	for name, e := range m.entries {
		now[name] = e.Value
	}
	about := map[string]bool{}
	for i, e := range edits {
		r, err := m.edit(e, now, about)
		if err != nil {
			return rules.Outcome{}, &rules.Refusal{Edit: i, Err: err}
		}
		out.Results = append(out.Results, r)
	}
	same := func(name string) bool { return value.Equal(m.entries[name].Value, now[name]) }
	if slices.ContainsFunc(slices.Collect(maps.Keys(about)), func(name string) bool { return !same(name) }) {
		m.version++
	}
	out.Version = m.version
	for name := range about {
		if !same(name) {
			m.entries[name] = entry.Entry{Name: name, Value: now[name], Version: m.version}
		}
		if now[name].IsZero() {
			delete(m.entries, name)
			out.Gone = append(out.Gone, entry.Gone{Name: name})
		} else {
			out.Entries = append(out.Entries, m.entries[name])
		}
	}
	return out, nil
}

func (m *Map) edit(e entry.Edit, now map[string]value.Value, about map[string]bool) (r rules.Result, err error) {
	if e.Reset {
		for name, v := range now {
			if strings.HasPrefix(name, e.Prefix) && !v.IsZero() {
				now[name], about[name], r.Changed = value.Value{}, true, true
			}
		}
		return r, nil
	}
	before, found := m.entries[e.Name]
	if err := e.Cond.Check(e.Name, found, entry.Tag{Version: before.Version}); err != nil {
		return r, err
	}
	if e.Op.Verb == value.Drop && now[e.Name].IsZero() {
		return r, value.ErrAbsent
	}
	next, taken, err := e.Op.Apply(now[e.Name])
	r = rules.Result{Changed: !value.Equal(next, now[e.Name]), Taken: taken}
	now[e.Name], about[e.Name] = next, true
	return r, err
}

// Entries returns the entries by their names.
func (m *Map) Entries() ([]entry.Entry, error) {
	var out []entry.Entry
	for _, name := range slices.Sorted(maps.Keys(m.entries)) {
		out = append(out, m.entries[name])
	}
	return out, nil
}

// Reopen does nothing.
func (m *Map) Reopen() error { return nil }
