package value_test

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/small-pantry/pantry/value"
)

func TestApply(t *testing.T) {
	t.Parallel()
	i, f, none := value.Int, value.Float, value.Value{}
	text := value.Text
	queue := value.List(text("C4"), text("B2"))
	list := func(items ...value.Value) value.Value { return value.List(items...) }
	for _, c := range []struct {
		now   value.Value
		op    string // its JSON form
		want  value.Value
		taken value.Value
		is    error
	}{
		{i(40), `{"op":"add","amount":-10}`, i(30), none, nil},
		{i(1), `{"op":"add","amount":1.0}`, i(2), none, nil},
		{i(1), `{"op":"add","amount":1.5}`, none, none, value.ErrWrongKind},
		{f(1.5), `{"op":"add","amount":1}`, f(2.5), none, nil},
		{none, `{"op":"add","amount":2}`, i(2), none, nil},
		{none, `{"op":"add","amount":2.5}`, f(2.5), none, nil},
		{none, `{"op":"add","amount":2,"start":100}`, i(102), none, nil},
		{i(5), `{"op":"add","amount":2,"start":100}`, i(7), none, nil},
		{i(math.MaxInt64), `{"op":"add","amount":1}`, none, none, value.ErrOutOfRange},
		{i(math.MinInt64), `{"op":"add","amount":-1}`, none, none, value.ErrOutOfRange},
		{i(-1), `{"op":"add","amount":-9223372036854775807}`, i(math.MinInt64), none, nil},
		{f(math.MaxFloat64), `{"op":"add","amount":1.7976931348623157e308}`, none, none, value.ErrOutOfRange},
		{i(5), `{"op":"add","amount":-6,"min":0}`, none, none, value.ErrOutOfRange},
		{i(5), `{"op":"add","amount":6,"max":10}`, none, none, value.ErrOutOfRange},
		{i(5), `{"op":"add","amount":5,"min":0,"max":10}`, i(10), none, nil},
		{text("1"), `{"op":"add","amount":1}`, none, none, value.ErrWrongKind},
		{i(1), `{"op":"raise","to":3}`, i(3), none, nil},
		{i(3), `{"op":"raise","to":1}`, i(3), none, nil},
		{none, `{"op":"raise","to":-5}`, i(-5), none, nil},
		{none, `{"op":"lower","to":3}`, i(3), none, nil},
		{none, `{"op":"lower","to":3,"start":1}`, i(1), none, nil},
		{f(3), `{"op":"lower","to":1}`, f(1), none, nil},
		{queue, `{"op":"raise","to":1}`, none, none, value.ErrWrongKind},
		{queue, `{"op":"append","item":"C4"}`, list(text("C4"), text("B2"), text("C4")), none, nil},
		{queue, `{"op":"append","item":"C4","unique":true}`, queue, none, nil},
		{queue, `{"op":"append","item":7,"keep":2}`, list(text("B2"), i(7)), none, nil},
		{none, `{"op":"append","item":7}`, list(i(7)), none, nil},
		{none, `{"op":"append","item":7,"start":[1]}`, list(i(1), i(7)), none, nil},
		{text("C4"), `{"op":"append","item":7}`, none, none, value.ErrWrongKind},
		{list(i(1), f(1), i(1)), `{"op":"remove","item":1}`, list(f(1), i(1)), none, nil},
		{list(i(1), f(1), i(1)), `{"op":"remove","item":1,"all":true}`, list(f(1)), none, nil},
		{queue, `{"op":"remove","item":"A1"}`, queue, none, nil},
		{text("C4"), `{"op":"remove","item":"C4"}`, none, none, value.ErrWrongKind},
		{queue, `{"op":"take","at":0}`, list(text("B2")), text("C4"), nil},
		{queue, `{"op":"take","at":-1}`, list(text("C4")), text("B2"), nil},
		{queue, `{"op":"take","at":2}`, none, none, value.ErrAbsent},
		{list(), `{"op":"take","at":-1}`, none, none, value.ErrAbsent},
		{none, `{"op":"take","at":0}`, none, none, value.ErrAbsent},
		{none, `{"op":"take","at":0,"start":[7]}`, list(), i(7), nil},
		{i(5), `{"op":"take","at":0}`, none, none, value.ErrWrongKind},
		{i(5), `{"op":"drop"}`, none, none, nil},
		{i(5), `{"op":"put","value":5,"as":"float"}`, none, none, value.ErrInvalid},
		{i(5), `{"op":"put","value":5.0,"as":"float"}`, f(5), none, nil},
		{i(5), `{"op":"put","value":5}`, none, none, value.ErrInvalid}, // its kind is not known yet
	} {
		op, err := value.ParseOp([]byte(c.op))
		if err == nil {
			var next, taken value.Value
			next, taken, err = op.Apply(c.now)
			assert.True(t, value.Equal(c.want, next), "%s of %v: %v", c.op, c.now, next)
			assert.True(t, value.Equal(c.taken, taken), "%s of %v: %v", c.op, c.now, taken)
			again, err := value.ParseOp(op.AppendJSON(nil))
			require.NoError(t, err, c.op)
			assert.Equal(t, string(op.AppendJSON(nil)), string(again.AppendJSON(nil)))
		}
		assert.ErrorIs(t, err, c.is, "%s of %v", c.op, c.now)
	}
	before := queue.String()
	for range 2 { // two that start from one list don't share memory
		one, _, _ := value.Op{Verb: value.Append, Operand: i(1)}.Apply(queue)
		two, _, _ := value.Op{Verb: value.Append, Operand: i(2)}.Apply(queue)
		assert.Equal(t, []string{`["C4","B2",1]`, `["C4","B2",2]`, before}, []string{one.String(), two.String(), queue.String()})
	}
	_, _, err := value.Op{Verb: value.Raise, Operand: f(math.NaN())}.Apply(f(3))
	assert.ErrorIs(t, err, value.ErrOutOfRange)
	_, _, err = value.Op{}.Apply(i(1))
	assert.ErrorIs(t, err, value.ErrInvalid)
	assert.ErrorIs(t, value.Within(f(math.NaN()), none, i(6)), value.ErrOutOfRange)
	assert.NoError(t, value.Within(i(5), i(5), f(5)))
}

func TestParseOpRefuses(t *testing.T) {
	t.Parallel()
	for op, says := range map[string]string{
		`[]`:                                 "not an operation such as",
		`{}`:                                 `"op" is missing`,
		`{"op":5}`:                           `"op" must be a text`,
		`{"op":"double"}`:                    `operation "double" does not exist: use put, drop, add`,
		`{"op":"none"}`:                      `operation "none" does not exist`,
		`{"op":"add"}`:                       `needs the member "amount"`,
		`{"op":"add","amout":1,"amount":1}`:  `has no member "amout"; it has op, amount, start, min, max`,
		`{"op":"add","amount":1,"amount":2}`: "occurs twice in the object",
		`{"op":"add","amount":1,"am\u006funt":2}`: "occurs twice in the object",
		`{"op":"add","amount":"1"}`:               `"amount" must be a number, not text`,
		`{"op":"add","amount":1,"min":"0"}`:       `"min" must be a number`,
		`{"op":"append","item":1,"keep":-1}`:      `"keep" is -1`,
		`{"op":"append","item":1,"keep":1.5}`:     `"keep" is 1.5`,
		`{"op":"append","item":1,"unique":1}`:     `"unique" must be true or false`,
		`{"op":"remove","item":1,"all":"yes"}`:    `"all" must be true or false`,
		`{"op":"take","at":-2}`:                   `"at" is -2`,
		`{"op":"take"}`:                           `needs the member "at"`,
		`{"op":"put"}`:                            `needs "value" or "typed"`,
		`{"op":"put","value":1,"typed":"1"}`:      `needs "value" or "typed"`,
		`{"op":"put","typed":"1","as":"int"}`:     `can't have "as"`,
		`{"op":"put","value":1,"as":"number"}`:    `no kind "number"`,
		`{"op":"put","value":"x","as":"int"}`:     `can't be read as int`,
		`{"op":"put","value":1,"kind":"number"}`:  `no kind "number"`,
		`{"op":"drop"} x`:                         "unexpected",
		`{"op":"drop","name":"a"}`:                `has no member "name"`,
	} {
		_, err := value.ParseOp([]byte(op))
		assert.ErrorIs(t, err, value.ErrInvalid, op)
		assert.ErrorContains(t, err, says, op)
	}
	op, err := value.ParseOp([]byte(`{"op":"drop","name":"a"}`), "name")
	require.NoError(t, err)
	assert.Equal(t, value.Drop, op.Verb)
	assert.Equal(t, "verb(99)", value.Verb(99).String())
}

// A list operation on a random list is what a plain slice makes of it.
func TestListsAgainstSlices(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		var model []int64
		now := value.Value{}
		for range 30 {
			item := rapid.Int64Range(0, 4).Draw(t, "item")
			op := value.Op{Verb: rapid.SampledFrom([]value.Verb{value.Append, value.Remove, value.Take}).Draw(t, "verb"), Operand: value.Int(item)}
			op.Unique, op.All = rapid.Bool().Draw(t, "unique"), rapid.Bool().Draw(t, "all")
			op.Keep, op.At = rapid.IntRange(0, 5).Draw(t, "keep"), rapid.IntRange(-1, 2).Draw(t, "at")
			has := func() int {
				for i, x := range model {
					if x == item {
						return i
					}
				}
				return -1
			}
			var want []int64 // taken
			switch op.Verb {
			case value.Append:
				if !op.Unique || has() < 0 {
					model = append(model, item)
				}
			case value.Remove:
				for i := has(); i >= 0; i = has() {
					model = append(append([]int64{}, model[:i]...), model[i+1:]...)
					if !op.All {
						break
					}
				}
			case value.Take:
				at := op.At
				if at < 0 {
					at = len(model) - 1
				}
				if at >= 0 && at < len(model) {
					want = []int64{model[at]}
					model = append(append([]int64{}, model[:at]...), model[at+1:]...)
				}
			}
			next, taken, err := op.Apply(now)
			if op.Verb == value.Take && want == nil {
				require.ErrorIs(t, err, value.ErrAbsent)
				continue
			}
			require.NoError(t, err)
			if op.Keep > 0 && len(model) > op.Keep {
				model = model[len(model)-op.Keep:]
			}
			if want != nil {
				require.True(t, value.Equal(value.Int(want[0]), taken))
			}
			now = next
			var out []string
			for _, x := range model {
				out = append(out, value.Int(x).String())
			}
			require.Equal(t, "["+strings.Join(out, ",")+"]", now.String())
		}
	})
}

// What is accepted means the same when it is written and read again.
func FuzzParseOp(f *testing.F) {
	for _, s := range []string{`{"op":"add","amount":-10,"start":0,"min":0,"max":5000}`, `{"op":"append","item":[1,{"a":null}],"keep":50,"unique":true}`,
		`{"op":"put","value":"AP8=","as":"bytes","kind":"bytes"}`, `{"op":"put","typed":"5"}`, `{"op":"take","at":-1}`, `{"op":"add","amount":1,"amount":1}`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		op, err := value.ParseOp([]byte(s))
		if err != nil {
			return
		}
		again, err := value.ParseOp(op.AppendJSON(nil))
		if err != nil || string(op.AppendJSON(nil)) != string(again.AppendJSON(nil)) {
			t.Fatalf("%s became %s: %v", s, op.AppendJSON(nil), err)
		}
	})
}
