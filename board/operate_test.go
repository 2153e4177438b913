package board_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

func TestOperations(t *testing.T) {
	b := newStore(t).join(t)
	ctx := t.Context()
	shown := func(e board.Entry, err error) string {
		t.Helper()
		require.NoError(t, err)
		return e.Value.String()
	}
	assert.Equal(t, "410", shown(b.Add(ctx, "tank/litres", board.AddTo{Amount: value.Int(-10), Start: value.Int(420)})))
	assert.Equal(t, "2350", shown(b.Raise(ctx, "marrow-g", value.Int(2350))))
	assert.Equal(t, "2350", shown(b.Raise(ctx, "marrow-g", value.Int(2000))))
	assert.Equal(t, "-3", shown(b.Lower(ctx, "frost/low", value.Int(-3))))
	assert.Equal(t, `["C4"]`, shown(b.Append(ctx, "hose/queue", value.Text("C4"), 0, true)))
	assert.Equal(t, `["C4"]`, shown(b.Append(ctx, "hose/queue", value.Text("C4"), 0, true)))
	assert.Equal(t, `["A1"]`, shown(b.Append(ctx, "hose/queue", value.Text("A1"), 1, false)))
	assert.Equal(t, `[]`, shown(b.Remove(ctx, "hose/queue", value.Text("A1"))))
	for name, f := range map[string]func() error{
		"add to a list":   func() error { _, err := b.Add(ctx, "hose/queue", board.AddTo{Amount: value.Int(1)}); return err },
		"append to a sum": func() error { _, err := b.Append(ctx, "marrow-g", value.Int(1), 0, false); return err },
		"raise a list":    func() error { _, err := b.Raise(ctx, "hose/queue", value.Int(1)); return err },
	} {
		assert.ErrorIs(t, f(), pantry.ErrWrongKind, name)
	}
	_, err := b.Add(ctx, "tank/litres", board.AddTo{Amount: value.Int(1), Max: value.Int(410)})
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	_, err = b.Add(ctx, "tank//litres", board.AddTo{Amount: value.Int(1)})
	assert.ErrorIs(t, err, pantry.ErrInvalid)
}

func TestCommitAllOrNone(t *testing.T) {
	b := newStore(t).join(t)
	ctx := t.Context()
	gate := board.On(b, pantry.Bool("gate/open", false))
	require.NoError(t, b.Ready(ctx))
	version, err := b.Commit(ctx, board.PutNamed("gate/open", value.Bool(true)).If(0), board.PutNamed("notice", value.Text("open")))
	require.NoError(t, err)
	assert.EqualValues(t, 1, version)
	assert.True(t, gate.Get(), "a variable learns from a commit at once")
	for name, ops := range map[string][]board.Op{
		"condition": {board.PutNamed("notice", value.Text("shut")), board.DropNamed("gate/open").If(7)},
		"absent":    {board.PutNamed("notice", value.Text("shut")), board.DropNamed("nothing")},
		"bad name":  {board.PutNamed("notice", value.Text("shut")), board.PutNamed("a//b", value.Int(1))},
		"nothing":   {},
	} {
		_, err := b.Commit(ctx, ops...)
		assert.Error(t, err, name)
	}
	e, found, err := b.Entry(ctx, "notice")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "open", e.Value.String())
	_, err = b.Commit(ctx, board.PutNamed("notice", value.Int(5)), board.DropPrefix("gate/"))
	require.NoError(t, err, "a commit may change a kind, since it says which")
	until(t, gate, func(s board.State[bool]) bool { return !s.Found })
	_, err = b.Drop(ctx, "notice", "nothing")
	assert.ErrorIs(t, err, board.ErrAbsent)

	var many []board.Op
	for i := range board.MaxOps {
		many = append(many, board.PutNamed(fmt.Sprint("bed/", i), value.Int(1)))
	}
	_, err = b.Commit(ctx, append(many, board.DropNamed("bed/1"))...)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.ErrorContains(t, err, "it has 1001 ops, and 1000 is the most")
	many[700] = many[700].If(9)
	_, err = b.Commit(ctx, many...)
	assert.ErrorIs(t, err, pantry.ErrConflict)
	assert.ErrorContains(t, err, "commit bed/0, bed/1, bed/2, 997 more on board")
	many[700] = many[700].If(0)
	_, err = b.Commit(ctx, many...)
	assert.NoError(t, err)
}

func TestLookingBack(t *testing.T) {
	st := newStore(t)
	b := st.join(t, board.As("gatehouse"))
	ctx := t.Context()
	at := func(version int64) string {
		entries, err := b.AllAt(ctx, version)
		require.NoError(t, err)
		var out []string
		for _, e := range entries {
			out = append(out, fmt.Sprint(e.Name, "=", e.Value))
		}
		return fmt.Sprint(out)
	}
	for i := range 3 {
		_, err := b.Put(ctx, "n", value.Int(int64(i)))
		require.NoError(t, err)
	}
	_, err := b.Put(ctx, "n", value.Float(2), board.AsKind(value.KindFloat))
	require.NoError(t, err)
	_, err = b.Drop(ctx, "n")
	require.NoError(t, err)
	assert.Equal(t, []string{"[]", "[n=0]", "[n=2]", "[n=2.0]", "[]"}, []string{at(0), at(1), at(3), at(4), at(5)})
	_, err = b.AllAt(ctx, 99)
	assert.ErrorIs(t, err, board.ErrAbsent)
	past, err := b.History(ctx, 2, "n")
	require.NoError(t, err)
	require.Len(t, past, 2)
	assert.Equal(t, []any{int64(5), "gatehouse", true}, []any{past[0].Version, past[0].By, past[0].Changes[0].New.IsZero()})
	assert.Equal(t, []string{"int 2", "float 2.0"}, []string{kinded(past[1].Changes[0].Old), kinded(past[1].Changes[0].New)})
	assert.NotZero(t, past[0].Time)
}

func kinded(v value.Value) string { return v.Kind().String() + " " + v.String() }

// An entry is the same after it went through JSON.
func TestEntryJSON(t *testing.T) {
	for _, line := range []string{
		`{"name":"a","kind":"int","value":5,"version":1,"updated":"2026-05-03T09:12:44.123Z","by":"tankwatch","from":"k3f9"}`,
		`{"name":"a","kind":"float","value":5.0,"version":1,"updated":"2026-05-03T09:12:44.123Z"}`,
		`{"name":"a","kind":"time","value":"2026-05-03T09:12:44Z","version":1,"updated":"2026-05-03T09:12:44Z"}`,
	} {
		var e board.Entry
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		back, err := json.Marshal(e)
		require.NoError(t, err)
		assert.Equal(t, line, string(back))
	}
	for _, bad := range []string{`{"kind":"number","value":5}`, `{"kind":"int","value":5.0}`, `{"kind":"int","value":"5"}`, `[]`} {
		assert.Error(t, json.Unmarshal([]byte(bad), new(board.Entry)), bad)
	}
}

// A board with more entries than one answer holds is read page by page, by a
// list and by a poll.
func TestPages(t *testing.T) {
	st := newStore(t)
	other := st.join(t, board.As("tankwatch"))
	const each, commits = 900, 3
	for c := range commits {
		var ops []board.Op
		for i := range each {
			ops = append(ops, board.PutNamed(fmt.Sprintf("beds/%04d/crop", c*each+i), value.Int(int64(i))))
		}
		_, err := other.Commit(t.Context(), ops...)
		require.NoError(t, err)
	}
	entries, version, err := other.All(t.Context(), "beds/")
	require.NoError(t, err)
	assert.EqualValues(t, commits, version)
	require.Len(t, entries, commits*each)
	assert.True(t, slices.IsSortedFunc(entries, func(a, b board.Entry) int { return strings.Compare(a.Name, b.Name) }))
	n := 0
	for _, err := range other.Entries(t.Context(), "") {
		require.NoError(t, err)
		if n++; n == 1100 {
			break
		}
	}
	assert.Equal(t, 1100, n)

	// So many variables that their names don't fit in a query: the board is asked for all.
	b := st.join(t)
	var beds []board.Var[int]
	for i := range commits * each {
		beds = append(beds, board.On(b, pantry.Int(fmt.Sprintf("beds/%04d/crop", i), -1)))
	}
	for _, i := range []int{0, each - 1, each, 2000, commits*each - 1} {
		until(t, beds[i], shows(i%each))
	}
	_, err = other.Drop(t.Context(), "beds/0000/crop")
	require.NoError(t, err)
	until(t, beds[0], func(s board.State[int]) bool { return s.Phase == board.Current && !s.Found && s.Value == -1 })
}

func TestPanicsWithTheRemedy(t *testing.T) {
	b := newStore(t).join(t)
	var zero board.Var[int]
	for _, c := range []struct {
		remedy string
		f      func()
	}{
		{"check the error of Join", func() { board.On(nil, tankLitres) }},
		{"keep it on the device", func() { board.On(b, pantry.Text("gate/code", "").Sealed()) }},
		{"get one from On", func() { zero.Get() }},
		{"get one from On", func() { _, _, _ = zero.Lookup(t.Context()) }},
		{"get one from On", func() { zero.Watch(t.Context()) }},
		{"get one from On", func() { _ = zero.Set(t.Context(), 1) }},
		{"get one from On", func() { _, _ = board.Add(t.Context(), zero, 1) }},
	} {
		func() {
			defer func() { assert.Contains(t, fmt.Sprint(recover()), c.remedy) }()
			c.f()
		}()
	}
}
