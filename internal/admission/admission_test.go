package admission_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/admission"
	_ "github.com/small-pantry/pantry/internal/test/hang"
)

func full(t *testing.T, err error, whose string) {
	t.Helper()
	var f *admission.FullError
	require.ErrorAs(t, err, &f)
	assert.Equal(t, whose, f.Whose)
}

func TestPoolShares(t *testing.T) {
	t.Parallel()
	p := admission.NewPool(admission.Bounds{Total: 1600, Link: 400, Board: 600, Small: 10})
	a := p.Hold(admission.Who{Link: "a", Board: "oak"})
	require.NoError(t, a.Grow(400))
	full(t, a.Grow(1), admission.Link)
	b := p.Hold(admission.Who{Link: "b", Board: "oak"})
	require.NoError(t, b.Grow(200))
	full(t, b.Grow(1), admission.Board)
	c := p.Hold(admission.Who{Link: "c", Board: "elm"})
	require.NoError(t, c.Grow(400))
	d := p.Hold(admission.Who{Link: "d", Board: "fir"})
	require.NoError(t, d.Grow(200))
	full(t, d.Grow(1), admission.Server) // the open three quarters are used
	small := p.Hold(admission.Who{Link: "phone", Board: "ash"})
	require.NoError(t, small.Grow(10), "the reserve serves those who hold almost nothing")
	full(t, small.Grow(1), admission.Server)
	for i := range 9 { // but one board has a quarter of the reserve
		h := p.Hold(admission.Who{Link: fmt.Sprint("phone", i), Board: "ash"})
		require.NoError(t, h.Grow(10))
	}
	full(t, p.Hold(admission.Who{Link: "phone10", Board: "ash"}).Grow(10), admission.Board)
	require.NoError(t, p.Hold(admission.Who{Link: "phone11", Board: "yew"}).Grow(10))
	a.Release()
	a.Release() // once more does nothing
	require.NoError(t, p.Hold(admission.Who{Link: "e", Board: "oak"}).Grow(100))
}

// For any sequence of Grow and Release the bounds hold, and nothing is left over.
func TestPoolAddsUp(t *testing.T) {
	t.Parallel()
	b := admission.Bounds{Total: 1000, Link: 300, Board: 500, Small: 20}
	p := admission.NewPool(b)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			rng := rand.New(rand.NewPCG(uint64(i), 7))
			for range 2000 {
				h := p.Hold(admission.Who{Link: fmt.Sprint(rng.IntN(5)), Board: fmt.Sprint(rng.IntN(3))})
				for range rng.IntN(4) {
					_ = h.Grow(rng.Int64N(100))
				}
				n, _ := p.Used()
				assert.LessOrEqual(t, n, b.Total)
				h.Release()
			}
		})
	}
	all.Wait()
	n, links := p.Used()
	assert.Zero(t, n)
	assert.Zero(t, links)
}

// A gate bounds who works at the same time. One link's queue does not hold up another's, and no request
// waits for longer than the patience.
func TestGate(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		g := admission.NewGate(admission.Bounds{Total: 4, Link: 2, Board: 2}, 3, 5*time.Second)
		greedy := admission.Who{Link: "greedy", Board: "oak"}
		var leave []func()
		for range 2 {
			l, err := g.Enter(t.Context(), greedy)
			require.NoError(t, err)
			leave = append(leave, l)
		}
		var wg sync.WaitGroup
		var in, refused atomic.Int64
		for range 3 {
			wg.Go(func() {
				l, err := g.Enter(t.Context(), greedy)
				if err != nil {
					refused.Add(1)
					return
				}
				in.Add(1)
				l()
			})
		}
		synctest.Wait()
		_, err := g.Enter(t.Context(), greedy)
		full(t, err, admission.Link) // three wait already
		phone, err := g.Enter(t.Context(), admission.Who{Link: "phone", Board: "elm"})
		require.NoError(t, err, "another link's queue does not matter")
		phone()
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		_, err = g.Enter(ctx, admission.Who{Link: "other", Board: "oak"})
		assert.ErrorIs(t, err, context.Canceled)
		leave[0]()
		synctest.Wait()
		assert.EqualValues(t, 3, in.Load(), "one after the other")
		leave[1]()
		wg.Wait()
		assert.Zero(t, refused.Load())
		for range 2 {
			_, err := g.Enter(t.Context(), greedy)
			require.NoError(t, err)
		}
		start := time.Now()
		_, err = g.Enter(t.Context(), greedy)
		full(t, err, admission.Server)
		assert.Equal(t, 5*time.Second, time.Since(start))
	})
}
