package suite_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/suite"
	"github.com/small-pantry/pantry/value"
)

// memory is a ledger whose directory is the test's. Reopen opens it again.
type memory struct {
	t   testing.TB
	dir string
	l   *ledger.Ledger
}

func (m *memory) open() (err error) {
	m.l, err = ledger.Open(m.dir, "rowan-street", ledger.Options{Twice: true})
	return err
}

func (m *memory) Commit(edits []entry.Edit) (rules.Outcome, error) {
	return rules.Commit(m.l, rules.Call{Edits: edits})
}

func (m *memory) Entries() (out []entry.Entry, err error) {
	snap := m.l.Snapshot()
	defer snap.Release()
	for e := range snap.Entries("", "") {
		out = append(out, e.Entry())
	}
	return out, nil
}

func (m *memory) Reopen() error {
	assert.NoError(m.t, m.l.Close())
	return m.open()
}

func TestOnALedger(t *testing.T) {
	t.Parallel()
	suite.Run(t, suite.CodeOf, func(t testing.TB) suite.Board {
		m := &memory{t: t, dir: t.TempDir()}
		assert.NoError(t, m.open())
		t.Cleanup(func() { assert.NoError(t, m.l.Close()) })
		return m
	})
}

// A declaration applies to an operation, and supplies what the operation leaves out.
func TestDeclared(t *testing.T) {
	t.Parallel()
	m := &memory{t: t, dir: t.TempDir()}
	assert.NoError(t, m.open())
	defer m.l.Close()
	_, err := m.l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		tx.Declare(
			entry.Declared{Key: entry.Key{Name: "hour", Kind: value.KindInt, Default: value.Int(18), Min: value.Int(0), Max: value.Int(23)}},
			entry.Declared{Key: entry.Key{Name: "q", Kind: value.KindList, Default: value.List(value.Text("A1")), Keep: 2}},
			entry.Declared{Key: entry.Key{Name: "plantings", Kind: value.KindMap, Family: true}},
		)
		return nil
	})
	assert.NoError(t, err)
	for _, step := range []struct{ op, name, want string }{
		{`{"op":"add","amount":6}`, "hour", "out-of-range"},
		{`{"op":"add","amount":5}`, "hour", "23"},
		{`{"op":"add","amount":-5,"min":20}`, "hour", "out-of-range"}, // the tighter bound holds
		{`{"op":"add","amount":-5,"min":-100,"max":100}`, "hour", "18"},
		{`{"op":"put","typed":"24"}`, "hour", "out-of-range"},
		{`{"op":"put","typed":"7.0"}`, "hour", "7"},
		{`{"op":"raise","to":30}`, "hour", "out-of-range"},
		{`{"op":"add","amount":1}`, "hour/late", "19"}, // its family's default
		{`{"op":"append","item":"B2"}`, "q", `["A1","B2"]`},
		{`{"op":"append","item":"C4"}`, "q", `["B2","C4"]`},
		{`{"op":"append","item":"D5","keep":9}`, "q", `["C4","D5"]`},
		{`{"op":"append","item":"E6","keep":1}`, "q", `["E6"]`},
		{`{"op":"put","value":["a","b","c"]}`, "q", `["b","c"]`},
		{`{"op":"put","value":4}`, "plantings", "4"},
		{`{"op":"put","value":"beans"}`, "plantings/4", "wrong-kind"},
		{`{"op":"put","typed":"{\"bed\":\"C4\"}"}`, "plantings/4", `{"bed":"C4"}`},
	} {
		op, err := value.ParseOp([]byte(step.op))
		assert.NoError(t, err, step.op)
		out, err := m.Commit([]entry.Edit{{Name: step.name, Op: op}})
		got := ""
		if err != nil {
			got, _ = suite.CodeOf(err)
		} else {
			got = out.Entries[0].Value.String()
		}
		assert.Equal(t, step.want, got, "%s on %s: %v", step.op, step.name, err)
	}
}

func TestOnAMap(t *testing.T) {
	t.Parallel()
	// Its puts name their kinds, so that it takes the random commits only.
	suite.RunRandom(t, suite.CodeOf, func(testing.TB) suite.Board { return suite.NewMap() })
}
