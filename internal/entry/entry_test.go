package entry_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

// An entry is the same after it went through JSON.
func TestEntryJSON(t *testing.T) {
	t.Parallel()
	for _, line := range []string{
		`{"name":"a","kind":"int","value":5,"version":1,"updated":"2026-05-03T09:12:44.123Z","by":"tankwatch","from":"k3f9"}`,
		`{"name":"a","kind":"float","value":5.0,"version":1,"updated":"2026-05-03T09:12:44.123Z"}`,
		`{"name":"a","kind":"time","value":"2026-05-03T09:12:44Z","version":1,"updated":"2026-05-03T09:12:44.000Z"}`,
	} {
		var e entry.Entry
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		back, err := json.Marshal(e)
		require.NoError(t, err)
		assert.Equal(t, line, string(back))
	}
	for _, bad := range []string{`{"kind":"number","value":5}`, `{"kind":"int","value":5.0}`, `{"kind":"int","value":"5"}`, `[]`} {
		assert.Error(t, json.Unmarshal([]byte(bad), new(entry.Entry)), bad)
	}
}

// An edit is the same after it went through JSON; what is no edit is refused.
func TestEditJSON(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		`{"name":"tank/litres","if":"17-1777799564123","op":"add","amount":-10,"min":0}`,
		`{"name":"gate/open","if":"0","op":"put","value":true,"as":"bool","kind":"bool"}`,
		`{"name":"gate/open","op":"put","typed":"true"}`,
		`{"name":"gate/open","op":"drop"}`,
		`{"op":"reset","prefix":"gate/"}`,
	} {
		e, err := entry.ReadEdit([]byte(text))
		require.NoError(t, err, text)
		back, err := json.Marshal(e)
		require.NoError(t, err)
		assert.Equal(t, text, string(back))
	}
	for text, says := range map[string]string{
		`{"op":"drop"}`:                                    "it is empty",
		`{"op":"drop","name":"a//b"}`:                      "empty part",
		`{"op":"drop","name":"a","if":"x"}`:                `"if" is "x"`,
		`{"op":"drop","name":"a","if":-1}`:                 `"if" is -1`,
		`{"op":"drop","name":"a","iff":1}`:                 `has no member "iff"`,
		`{"op":"drop","name":"a","name":"b"}`:              "occurs twice in the object",
		`{"op":"reset"}`:                                   `needs "prefix"`,
		`{"op":"reset","prefix":5}`:                        `needs "prefix"`,
		`{"op":"reset","prefix":"","name":"a"}`:            `has no member "name"`,
		`{"op":"add","name":"a","amount":1,"prefix":"p/"}`: `has no member "prefix"`,
		`5`: "can't be read",
	} {
		_, err := entry.ReadEdit([]byte(text))
		assert.ErrorIs(t, err, value.ErrInvalid, text)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestConditions(t *testing.T) {
	t.Parallel()
	at := time.UnixMilli(1777799564123)
	has := entry.TagOf(17, at)
	is := func(tags ...string) (c entry.Cond) {
		for _, tag := range tags {
			c.Is = append(c.Is, entry.ParseTag(tag))
		}
		return c
	}
	for _, c := range []struct {
		cond          entry.Cond
		found, absent bool // it holds for what is stored, and for nothing
	}{
		{entry.Cond{}, true, true},
		{is("17"), true, false}, {is("17-1777799564123"), true, false}, {is("17-1"), false, false}, {is("16"), false, false},
		{is("0"), false, true}, {is("16", "17"), true, false}, {is("17x"), false, false}, {is("-1"), false, false}, {is("-2"), false, false}, {is(""), false, false},
		{entry.Cond{Is: []entry.Tag{{Version: entry.Anything}}}, true, false},
		{entry.Cond{Not: []entry.Tag{{Version: entry.Anything}}}, false, true},
		{entry.Cond{Not: []entry.Tag{{Version: 17}}}, false, true}, {entry.Cond{Not: []entry.Tag{{Version: 16}}}, true, true},
		{entry.Edit{}.If(17, at).Cond, true, false}, {entry.Edit{}.If(17, time.Time{}).Cond, true, false}, {entry.Edit{}.If(17, at.Add(time.Second)).Cond, false, false}, {entry.Edit{}.If(0, at).Cond, false, true},
	} {
		for found, holds := range map[bool]bool{true: c.found, false: c.absent} {
			err := c.cond.Check("gate/open", found, has)
			assert.Equal(t, holds, err == nil, "%+v, found %v: %v", c.cond, found, err)
			if err != nil {
				assert.ErrorIs(t, err, entry.ErrConflict)
				assert.ErrorContains(t, err, "gate/open ")
			}
		}
	}
}
