package board_test

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/small-pantry/pantry/value"
)

func put(name string, v value.Value) board.Op {
	return board.Op{Name: name, Op: value.Op{Verb: value.Put, Operand: v, Kind: v.Kind()}}
}

func drop(name string) board.Op { return board.Op{Name: name, Op: value.Op{Verb: value.Drop}} }

var anyTime = time.Time{}

func TestOperations(t *testing.T) {
	t.Parallel()
	b := newStore(t).join(t)
	ctx := t.Context()
	make := func(name, op string) (string, error) {
		o, err := value.ParseOp([]byte(op))
		require.NoError(t, err, op)
		done, err := b.Commit(ctx, board.Op{Name: name, Op: o})
		if err != nil {
			return "", err
		}
		shown := done.Entries[0].Value.String()
		if taken := done.Results[0].Taken; !taken.IsZero() {
			shown += " " + taken.String()
		}
		return shown, nil
	}
	for _, c := range []struct{ name, op, want string }{
		{"tank/litres", `{"op":"add","amount":-10,"start":420}`, "410"},
		{"marrow-g", `{"op":"raise","to":2350}`, "2350"},
		{"marrow-g", `{"op":"raise","to":2000}`, "2350"},
		{"frost/low", `{"op":"lower","to":-3}`, "-3"},
		{"hose/queue", `{"op":"append","item":"C4","unique":true}`, `["C4"]`},
		{"hose/queue", `{"op":"append","item":"C4","unique":true}`, `["C4"]`},
		{"hose/queue", `{"op":"append","item":"A1","keep":1}`, `["A1"]`},
		{"hose/queue", `{"op":"append","item":"B2"}`, `["A1","B2"]`},
		{"hose/queue", `{"op":"take","at":0}`, `["B2"] A1`},
		{"hose/queue", `{"op":"remove","item":"B2"}`, `[]`},
	} {
		got, err := make(c.name, c.op)
		require.NoError(t, err, c.op)
		assert.Equal(t, c.want, got, c.op)
	}
	for _, c := range []struct {
		name, op string
		is       error
	}{
		{"hose/queue", `{"op":"add","amount":1}`, pantry.ErrWrongKind},
		{"marrow-g", `{"op":"append","item":1}`, pantry.ErrWrongKind},
		{"hose/queue", `{"op":"raise","to":1}`, pantry.ErrWrongKind},
		{"hose/queue", `{"op":"take","at":0}`, pantry.ErrAbsent},
		{"tank/litres", `{"op":"add","amount":1,"max":410}`, pantry.ErrInvalid},
		{"tank//litres", `{"op":"add","amount":1}`, pantry.ErrInvalid},
	} {
		_, err := make(c.name, c.op)
		assert.ErrorIs(t, err, c.is, c.op)
	}
}

func TestCommitAllOrNone(t *testing.T) {
	t.Parallel()
	b := newStore(t).join(t)
	ctx := t.Context()
	gate := board.On(b, pantry.Bool("gate/open", false))
	require.NoError(t, b.Ready(ctx))
	done, err := b.Commit(ctx, put("gate/open", value.Bool(true)).If(0, anyTime), put("notice", value.Text("open")))
	require.NoError(t, err)
	assert.EqualValues(t, 1, done.Version)
	assert.True(t, gate.Get(), "a variable learns from a commit at once")
	for name, ops := range map[string][]board.Op{
		"condition": {put("notice", value.Text("shut")), drop("gate/open").If(7, anyTime)},
		"absent":    {put("notice", value.Text("shut")), drop("nothing")},
		"bad name":  {put("notice", value.Text("shut")), put("a//b", value.Int(1))},
		"nothing":   {},
	} {
		_, err := b.Commit(ctx, ops...)
		assert.Error(t, err, name)
	}
	e, found, err := b.Entry(ctx, "notice")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "open", e.Value.String())
	_, err = b.Commit(ctx, put("notice", value.Int(5)), board.Op{Reset: true, Prefix: "gate/"})
	require.NoError(t, err, "a commit may change a kind, since it says which")
	until(t, gate, func(s board.State[bool]) bool { return !s.Found })
	err = b.Drop(ctx, "notice", "nothing")
	assert.ErrorIs(t, err, pantry.ErrAbsent)

	var many []board.Op
	for i := range board.MaxOps {
		many = append(many, put(fmt.Sprint("bed/", i), value.Int(1)))
	}
	_, err = b.Commit(ctx, append(many, drop("bed/1"))...)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.ErrorContains(t, err, "it has 1001 ops, and the maximum is 1000")
	many[700] = many[700].If(9, anyTime)
	_, err = b.Commit(ctx, many...)
	assert.ErrorIs(t, err, pantry.ErrConflict)
	assert.ErrorContains(t, err, "commit bed/0, bed/1, bed/2, 997 more on board")
	many[700] = many[700].If(0, anyTime)
	_, err = b.Commit(ctx, many...)
	assert.NoError(t, err)
}

func TestLookingBack(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t, board.ClientName("gatehouse"))
	ctx := t.Context()
	at := func(version int64) string {
		entries, err := b.EntriesAt(ctx, version)
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
	_, err := b.Commit(ctx, put("n", value.Float(2)))
	require.NoError(t, err)
	err = b.Drop(ctx, "n")
	require.NoError(t, err)
	assert.Equal(t, []string{"[]", "[n=0]", "[n=2]", "[n=2.0]", "[]"}, []string{at(0), at(1), at(3), at(4), at(5)})
	_, err = b.EntriesAt(ctx, 99)
	assert.ErrorIs(t, err, pantry.ErrTooOld)
	past, err := b.History(ctx, 2, "n")
	require.NoError(t, err)
	require.Len(t, past, 2)
	assert.Equal(t, []any{int64(5), "gatehouse", true}, []any{past[0].Version, past[0].By, past[0].Changes[0].New.IsZero()})
	assert.Equal(t, []string{"int 2", "float 2.0"}, []string{kinded(past[1].Changes[0].Old), kinded(past[1].Changes[0].New)})
	assert.NotZero(t, past[0].Time)
}

func TestForgetOnABoard(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	b := st.join(t)
	ctx := t.Context()
	gate := board.On(b, pantry.Text("gate-code", "none"))
	require.NoError(t, gate.Set(ctx, "rhubarb"))
	_, err := b.Put(ctx, "hour", value.Int(7))
	require.NoError(t, err)
	require.NoError(t, b.Forget(ctx, "gate-code"))
	past, err := b.History(ctx, 0)
	require.NoError(t, err)
	require.Len(t, past, 1)
	assert.Equal(t, "hour", past[0].Changes[0].Name)
	assert.Eventually(t, func() bool { return gate.Get() == "none" }, hang.Patience, time.Millisecond)
	assert.ErrorIs(t, b.Forget(ctx, "gate-code"), pantry.ErrAbsent)
	assert.ErrorIs(t, b.Forget(ctx, "a//b"), pantry.ErrInvalid)
	entries, version, err := b.EntriesAtTime(ctx, time.Now().Add(time.Second))
	require.NoError(t, err)
	assert.Equal(t, []any{int64(3), 1}, []any{version, len(entries)})
	_, _, err = b.EntriesAtTime(ctx, time.Now().Add(-time.Hour))
	assert.ErrorIs(t, err, pantry.ErrTooOld, "what was before the first commit that is left is not told")
}

func kinded(v value.Value) string { return v.Kind().String() + " " + v.String() }

// A board with more entries than one answer holds is read page by page, by a
// list and by a poll.
func TestPages(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	other := st.join(t, board.ClientName("tankwatch"))
	const each, commits = 900, 3
	for c := range commits {
		var ops []board.Op
		for i := range each {
			ops = append(ops, put(fmt.Sprintf("beds/%04d/crop", c*each+i), value.Int(int64(i))))
		}
		_, err := other.Commit(t.Context(), ops...)
		require.NoError(t, err)
	}
	entries, version, err := other.All(t.Context(), "beds/")
	require.NoError(t, err)
	assert.EqualValues(t, commits, version)
	require.Len(t, entries, commits*each)
	assert.True(t, slices.IsSortedFunc(entries, func(a, b pantry.Entry) int { return strings.Compare(a.Name, b.Name) }))
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
	err = other.Drop(t.Context(), "beds/0000/crop")
	require.NoError(t, err)
	until(t, beds[0], func(s board.State[int]) bool { return s.Phase == board.Current && !s.Found && s.Value == -1 })
}

func TestPanicsWithTheRemedy(t *testing.T) {
	t.Parallel()
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

// The past is returned whole at any size: a history in several answers, and a moment with more entries than
// a page has.
func TestLookingBackOnMuch(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	b := join(t, s)
	ops := make([]board.Op, 1000)
	for round := range 2 {
		for i := range ops {
			ops[i] = board.Op{Name: fmt.Sprintf("bed/%d", 1000*round+i), Op: value.Op{Verb: value.Put, Operand: value.Int(int64(i))}}
		}
		_, err := b.Commit(t.Context(), ops...)
		require.NoError(t, err)
	}
	_, err := b.Put(t.Context(), "after", value.Int(1))
	require.NoError(t, err)
	entries, err := b.EntriesAt(t.Context(), 2)
	require.NoError(t, err)
	assert.Len(t, entries, 2000)
	entries, version, err := b.EntriesAtTime(t.Context(), time.Now().Add(time.Second))
	require.NoError(t, err)
	assert.Equal(t, []any{2001, int64(3)}, []any{len(entries), version})
	for i := range 6 {
		_, err := b.Put(t.Context(), "large", value.Text(strings.Repeat(fmt.Sprint(i), 1<<20-100)))
		require.NoError(t, err)
	}
	commits, err := b.History(t.Context(), 0)
	require.NoError(t, err)
	var versions []int64
	for _, c := range commits {
		versions = append(versions, c.Version)
	}
	assert.Equal(t, []int64{9, 8, 7, 6, 5, 4, 3, 2, 1}, versions)
	commits, err = b.History(t.Context(), 5, "large")
	require.NoError(t, err)
	assert.Len(t, commits, 5)

	resp, err := http.Get(strings.Replace(s.Link("rowan-street"), "/boards/", "/v1/boards/", 1) + "/history")
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Less(t, len(raw), 5<<20, "an answer has no more than a page, and a commit")
	assert.Contains(t, string(raw[len(raw)-20:]), `"next":8}`)
}
