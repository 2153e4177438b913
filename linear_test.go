package pantry_test

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/anishathalye/porcupine"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
)

// A call is a call of a variable. after says what it stores and what it answers.
type call struct {
	do string
	n  int
}

// after returns what is stored after a call, and what the call answers.
func (c call) after(stored int) (now, answer int) {
	switch c.do {
	case "get":
		return stored, stored
	case "set":
		return c.n, c.n
	case "add", "update":
		return stored + c.n, stored + c.n
	case "raise":
		return max(stored, c.n), max(stored, c.n)
	case "clear":
		return 0, 0
	}
	panic(c.do)
}

func (c call) make(t *testing.T, v pantry.Var[int]) (answer int) {
	var err error
	switch c.do {
	case "get":
		answer = v.Get()
	case "set":
		answer, err = c.n, v.Set(c.n)
	case "add":
		answer, err = pantry.Add(v, c.n)
	case "update":
		answer, err = v.Update(func(old int) (int, error) { return old + c.n, nil })
	case "raise":
		answer, err = pantry.Raise(v, c.n)
	case "clear":
		err = v.Clear()
	}
	assert.NoError(t, err, "%v", c)
	return answer
}

// Many goroutines call two Opens of one file at once. Each call takes effect at one moment between its
// beginning and its end (linearizability), in strict and in prompt mode.
func TestLinearizable(t *testing.T) {
	t.Parallel()
	model := porcupine.Model{
		Init: func() any { return 0 },
		Step: func(stored, input, output any) (bool, any) {
			now, answer := input.(call).after(stored.(int))
			return answer == output.(int), now
		},
		DescribeOperation: func(input, output any) string { return fmt.Sprint(input, " gave ", output) },
	}
	for name, options := range map[string][]pantry.Option{"strict": nil, "prompt": {pantry.SyncWithin(20 * time.Millisecond)}} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			spaces := []*pantry.Namespace{open(t, dir, options...), open(t, dir)}
			tank := pantry.Int("tank/litres", 0)
			began := time.Now()
			var mu sync.Mutex
			var history []porcupine.Operation
			var all sync.WaitGroup
			for client := range 6 {
				all.Go(func() {
					v := tank.In(spaces[client%2])
					r := rand.New(rand.NewPCG(uint64(client), 7))
					for range 60 {
						c := call{[]string{"get", "get", "get", "set", "add", "update", "raise", "clear"}[r.IntN(8)], r.IntN(50)}
						from := time.Since(began)
						answer := c.make(t, v)
						op := porcupine.Operation{ClientId: client, Input: c, Output: answer, Call: int64(from), Return: int64(time.Since(began))}
						mu.Lock()
						history = append(history, op)
						mu.Unlock()
					}
				})
			}
			all.Wait()
			require.Len(t, history, 360)
			assert.Equal(t, porcupine.Ok, porcupine.CheckOperationsTimeout(model, history, time.Minute))
			stale := porcupine.Operation{ClientId: 9, Input: call{"get", 0}, Output: -1, Call: int64(time.Hour), Return: int64(2 * time.Hour)}
			assert.Equal(t, porcupine.Illegal, porcupine.CheckOperationsTimeout(model, append(history, stale), time.Minute), "the check finds what can't be")
		})
	}
}
