package board_test

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/cases"
	"github.com/small-pantry/pantry/internal/test/hang"
)

// What every client must do, by the files that the client in JavaScript reads too.
func TestCases(t *testing.T) {
	for name, file := range map[string][]byte{"operations": cases.Operations, "trouble": cases.Trouble} {
		all, err := cases.Read(file)
		require.NoError(t, err)
		for i, c := range all {
			t.Run(name+"/"+c.What, func(t *testing.T) {
				t.Parallel()
				s := cases.NewServer(t)
				name := fmt.Sprint("board-", i)
				var met reported
				opts := []board.Option{board.Poll(20*time.Millisecond, 100*time.Millisecond), board.Patience(c.Patience()), board.Timeout(time.Duration(c.Timeout) * time.Millisecond), board.OnProblem(met.add)}
				if c.Offline {
					opts = append(opts, board.Offline(t.TempDir()))
				}
				b, err := board.Join(s.Link(name), opts...)
				require.NoError(t, err)
				t.Cleanup(func() { assert.NoError(t, b.Close()) })
				v := variable(t, b, c.Key)
				require.NoError(t, b.Ready(t.Context()))
				for n, step := range c.Steps {
					runStep(t, fmt.Sprintf("%s, step %d", c.What, n), s, name, c.Key.Name, b, v, &met, step)
				}
			})
		}
	}
}

// reported counts what a board has reported, by code.
type reported struct {
	mu    sync.Mutex
	codes []string
}

func (p *reported) add(one pantry.Problem) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var e *board.Error
	code := fmt.Sprintf("%T", one.Err)
	switch {
	case errors.As(one.Err, &e):
		code = e.Code
	case errors.As(one.Err, new(*board.NearError)):
		code = "near"
	case errors.As(one.Err, new(*board.ReplacedError)):
		code = "replaced"
	}
	p.codes = append(p.codes, code)
}

func (p *reported) count(code string) (n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.codes {
		if one == code {
			n++
		}
	}
	return n
}

func runStep(t *testing.T, at string, s *cases.Server, name, entry string, b *board.Board, v tested, met *reported, step cases.Step) {
	t.Helper()
	switch {
	case step.Problem != "":
		require.Eventually(t, func() bool { return met.count(step.Problem) >= step.Problems }, hang.Patience, 5*time.Millisecond, "%s: it was reported %d times", at, met.count(step.Problem))
		assert.Equal(t, step.Problems, met.count(step.Problem), at)
	case step.Do == "pause":
		b.Pause()
	case step.Do == "resume":
		b.Resume()
	case step.Server != "":
		s.Do(name, step.Server)
		return
	case step.Others != nil:
		s.Others(name, cmp.Or(step.Name, entry), string(step.Others))
	case step.Until != "":
		if !assert.Eventually(t, func() bool {
			phase, failed := v.state()
			return phase == step.Until && (step.Now == nil || v.shows(step.Now)) && (step.Error == "" || codeIs(failed, step.Error))
		}, hang.Patience, 5*time.Millisecond) {
			phase, failed := v.state()
			require.FailNow(t, "it does not become "+step.Until, "%s: it is %s %s, not %s; %v; %+v", at, phase, v.text(), step.Now, failed, b.Status())
		}
	case step.Pending != nil:
		require.Eventually(t, func() bool { return len(b.Pending()) == *step.Pending }, hang.Patience, 5*time.Millisecond, at)
	case step.Do == "holds":
		assert.Contains(t, s.Holds(name, entry), fmt.Sprintf(`"kind":%q,"value":%s,`, step.Kind, step.JSON), at)
	case step.Do == "discard":
		require.NoError(t, b.Discard(b.Pending()[0].ID), at)
	default:
		err := v.do(t.Context(), step, func(found bool, item any) {
			if step.Found != nil {
				assert.Equal(t, *step.Found, found, at)
			}
			if step.Item != nil {
				assert.JSONEq(t, string(step.Item), string(jsonOf(item)), at)
			}
		})
		if step.Is == "" {
			require.NoError(t, err, at)
		} else {
			require.True(t, codeIs(err, step.Is), "%s: %v is not %s", at, err, step.Is)
		}
		if step.Now != nil { // a call returns when what it made is shown
			require.True(t, v.shows(step.Now), "%s: it shows %s, not %s", at, v.text(), step.Now)
		}
		return
	}
	if step.Now != nil {
		require.Eventually(t, func() bool { return v.shows(step.Now) }, hang.Patience, 5*time.Millisecond, "%s: it shows %s, not %s", at, v.text(), step.Now)
	}
}

// codeIs says whether an error is what a case calls it.
func codeIs(err error, code string) bool {
	switch code {
	case "invalid":
		return errors.Is(err, pantry.ErrInvalid) && !errors.Is(err, pantry.ErrWrongKind)
	case "wrong-kind":
		return errors.Is(err, pantry.ErrWrongKind)
	case "conflict":
		return errors.Is(err, pantry.ErrConflict)
	}
	var e *board.Error
	return errors.As(err, &e) && e.Code == code
}

func jsonOf(x any) []byte {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(x); err != nil {
		return []byte(err.Error())
	}
	return bytes.TrimSpace(b.Bytes())
}

// tested is a variable of any type.
type tested interface {
	do(ctx context.Context, s cases.Step, tell func(found bool, item any)) error
	state() (phase string, err error)
	shows(want json.RawMessage) bool
	text() string
}

type testedVar[T any] struct {
	v       board.Var[T]
	seen    *board.State[T]
	numbers func(ctx context.Context, verb string, x T) error
	lists   func(ctx context.Context, s cases.Step, tell func(found bool, item any)) error
}

func variable(t *testing.T, b *board.Board, k cases.Key) tested {
	t.Helper()
	switch k.Kind {
	case "int":
		return number(t, b, k, pantry.Int(k.Name, read[int64](t, k.Default)), func(old, x int64) int64 { return old + x })
	case "float":
		return number(t, b, k, pantry.Float(k.Name, read[float64](t, k.Default)), func(old, x float64) float64 { return old + x })
	case "bool":
		return testedVar[bool]{v: board.On(b, pantry.Bool(k.Name, read[bool](t, k.Default))), seen: new(board.State[bool])}
	case "list":
		v := board.On(b, pantry.List(k.Name, read[[]string](t, k.Default)...).Keep(k.Keep))
		return testedVar[[]string]{v: v, seen: new(board.State[[]string]), lists: func(ctx context.Context, s cases.Step, tell func(bool, any)) error {
			var err error
			switch {
			case s.Do == "take":
				item, found, err := board.Take(ctx, v, s.At)
				tell(found, item)
				return err
			case s.Do == "append" && s.Unique:
				_, err = board.AppendUnique(ctx, v, read[string](t, s.X))
			case s.Do == "append":
				_, err = board.Append(ctx, v, read[string](t, s.X))
			case s.All:
				_, err = board.RemoveAll(ctx, v, read[string](t, s.X))
			default:
				_, err = board.Remove(ctx, v, read[string](t, s.X))
			}
			return err
		}}
	}
	key := pantry.Text(k.Name, read[string](t, k.Default))
	if len(k.Choices) > 0 {
		key = pantry.OneOf(k.Name, k.Choices[0], k.Choices[1:]...)
	}
	return testedVar[string]{v: board.On(b, key), seen: new(board.State[string])}
}

func number[T int64 | float64](t *testing.T, b *board.Board, k cases.Key, key pantry.Key[T], sum func(old, x T) T) tested {
	t.Helper()
	if k.Min != nil {
		key = key.Between(read[T](t, k.Min), read[T](t, k.Max))
	}
	v := board.On(b, key)
	return testedVar[T]{v: v, seen: new(board.State[T]), numbers: func(ctx context.Context, verb string, x T) (err error) {
		switch verb {
		case "add":
			_, err = board.Add(ctx, v, x)
		case "raise":
			_, err = board.Raise(ctx, v, x)
		case "lower":
			_, err = board.Lower(ctx, v, x)
		case "update":
			_, err = v.Update(ctx, func(old T) (T, error) { return sum(old, x), nil })
		}
		return err
	}}
}

func read[T any](t *testing.T, raw json.RawMessage) (x T) {
	t.Helper()
	if raw != nil {
		require.NoError(t, json.Unmarshal(raw, &x))
	}
	return x
}

func (x testedVar[T]) do(ctx context.Context, s cases.Step, tell func(bool, any)) error {
	var operand T
	if s.X != nil && s.Do != "append" && s.Do != "remove" {
		if err := json.Unmarshal(s.X, &operand); err != nil {
			return err
		}
	}
	switch s.Do {
	case "set":
		return x.v.Set(ctx, operand)
	case "see":
		*x.seen = x.v.State()
		return nil
	case "setIf":
		return x.v.SetIf(ctx, *x.seen, operand)
	case "clear":
		return x.v.Clear(ctx)
	case "lookup":
		_, found, err := x.v.Lookup(ctx)
		if err == nil {
			tell(found, nil)
		}
		return err
	case "append", "remove", "take":
		return x.lists(ctx, s, tell)
	}
	return x.numbers(ctx, s.Do, operand)
}

func (x testedVar[T]) state() (string, error) {
	s := x.v.State()
	return s.Phase.String(), s.Err
}

func (x testedVar[T]) text() string { return string(jsonOf(x.v.Get())) }

func (x testedVar[T]) shows(want json.RawMessage) bool {
	var w T
	return json.Unmarshal(want, &w) == nil && bytes.Equal(jsonOf(w), jsonOf(x.v.Get()))
}
