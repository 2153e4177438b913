package board_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/cases"
	"github.com/small-pantry/pantry/internal/test/soak"
)

// Everything that the way to the server can do to a request.
var chaos = []string{"lose 1", "lose 5", "busy", "portal", "redirect", "blocked", "missing", "half", "other", "broken", "silent", "cut", "drop", "no streams", "no waits", "hold streams", "restart"}

// Twenty phones add and append, are closed and opened again, and the way to the server does everything
// to them. In the end every change counts once, and each phone's are in order.
func TestChaos(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	s := cases.NewServer(t)
	lasts, pause := 1500*time.Millisecond, 20
	if soak.On() { // at a pace that leaves each change its receipt until it is answered
		lasts, pause = 10*time.Minute, 800
	}
	stop := make(chan struct{})
	var troubles sync.WaitGroup
	troubles.Go(func() {
		rng := rand.New(rand.NewPCG(seed, 0))
		for {
			select {
			case <-stop:
				s.Do("rowan-street", "back")
				return
			case <-time.After(time.Duration(20+rng.IntN(180)) * time.Millisecond):
			}
			if s.Do("rowan-street", chaos[rng.IntN(len(chaos))]); rng.IntN(2) == 0 {
				s.Do("rowan-street", "back")
			}
		}
	})
	const phones = 20
	sum := pantry.Int("compost/barrows", 0)
	added := make([]int, phones)
	dirs := make([]string, phones)
	join := func(i int, timeout time.Duration) *board.Board {
		b, err := board.Join(s.Link("rowan-street"), board.Offline(dirs[i]), board.OnProblem(func(pantry.Problem) {}),
			board.Poll(20*time.Millisecond, 100*time.Millisecond), board.Patience(300*time.Millisecond), board.Timeout(timeout))
		require.NoError(t, err)
		return b
	}
	const hasty, calm = 700 * time.Millisecond, 20 * time.Second
	const kept = 50 // of each phone's log
	logOf := func(i int) pantry.Key[[]int] { return pantry.List[int](fmt.Sprintf("log/%02d", i)).Keep(kept) }
	countOf := func(i int) pantry.Key[int] { return pantry.Int(fmt.Sprintf("count/%02d", i), 0) }
	end := time.Now().Add(lasts)
	var all sync.WaitGroup
	for i := range phones {
		dirs[i] = t.TempDir()
		all.Go(func() {
			rng := rand.New(rand.NewPCG(seed, uint64(i)+1))
			b := join(i, hasty)
			for time.Now().Before(end) {
				_, err := board.Add(t.Context(), board.On(b, sum), 1)
				if err != nil && !errors.Is(err, board.ErrQueued) {
					t.Errorf("phone %d: %v", i, err)
				}
				added[i]++
				if _, err = board.Add(t.Context(), board.On(b, countOf(i)), 1); err != nil && !errors.Is(err, board.ErrQueued) {
					t.Errorf("phone %d: %v", i, err)
				}
				if _, err = board.Append(t.Context(), board.On(b, logOf(i)), added[i]); err != nil && !errors.Is(err, board.ErrQueued) {
					t.Errorf("phone %d: %v", i, err)
				}
				if rng.IntN(30) == 0 {
					assert.NoError(t, b.Close())
					b = join(i, hasty)
				}
				time.Sleep(time.Duration(rng.IntN(pause)) * time.Millisecond)
			}
			assert.NoError(t, b.Close())
		})
	}
	all.Wait()
	close(stop)
	troubles.Wait()
	want := 0
	for i := range phones {
		want += added[i]
		all.Go(func() {
			b := join(i, calm)
			if !sent(t, b) {
				return
			}
			counted, _, err := board.On(b, countOf(i)).Lookup(t.Context())
			assert.NoError(t, err)
			assert.Equal(t, added[i], counted, "phone %d", i)
			got, _, err := board.On(b, logOf(i)).Lookup(t.Context())
			assert.NoError(t, err)
			assert.Len(t, got, min(kept, added[i]))
			for n, x := range got {
				assert.Equal(t, added[i]-len(got)+n+1, x, "phone %d: %v", i, got)
			}
			assert.NoError(t, b.Close())
		})
	}
	all.Wait()
	b := join(0, calm)
	got, _, err := board.On(b, sum).Lookup(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.NoError(t, b.Close())
	t.Logf("%d additions of %d phones", want, phones)
}
