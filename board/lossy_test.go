package board_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
)

// A lossy network cuts, delays, doubles and loses.
type lossy struct {
	calm atomic.Bool
	mu   sync.Mutex // guards rand
	rand *rand.Rand
}

func (l *lossy) draw(n int) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.rand.IntN(n)
}

func (l *lossy) RoundTrip(r *http.Request) (*http.Response, error) {
	if l.calm.Load() {
		return http.DefaultTransport.RoundTrip(r)
	}
	time.Sleep(time.Duration(l.draw(3)) * time.Millisecond) // the delay of the network
	switch l.draw(20) {
	case 0, 1:
		return nil, errors.New("no way there")
	case 2: // it arrives twice
		again := r.Clone(r.Context())
		again.Body = io.NopCloser(bytes.NewReader(reread(r)))
		if resp, err := http.DefaultTransport.RoundTrip(again); err == nil {
			resp.Body.Close()
		}
	}
	resp, err := http.DefaultTransport.RoundTrip(r)
	switch {
	case err != nil:
		return resp, err
	case l.draw(20) < 2:
		resp.Body.Close()
		return nil, errors.New("no way back")
	case l.draw(20) == 0: // cut in the middle
		resp.Body = cutBody{io.LimitReader(resp.Body, int64(l.draw(200))), resp.Body}
	}
	return resp, nil
}

type cutBody struct {
	io.Reader
	io.Closer
}

func (c cutBody) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// Twenty phones over such a network, half of them with a queue, and a server that is
// stopped and started in the middle: every sum is exact, everybody ends with what the
// server has, versions never fall, and nothing outlives Close.
func TestPhonesOverALossyNetwork(t *testing.T) {
	t.Parallel()
	phones, each := soak.Rounds(10, 20), soak.Rounds(100, 500) // operations of each
	t.Run("phones", func(t *testing.T) {
		s := boardtest.NewServer(t)
		sum := pantry.Int("sum", 0)
		var way []*lossy
		var boards []*board.Board
		var vars []board.Var[int]
		for i := range phones {
			l := &lossy{rand: rand.New(rand.NewPCG(uint64(i), 7))}
			opts := []board.Option{board.HTTPClient(&http.Client{Transport: l}), board.Patience(10 * time.Second)}
			if i%2 == 0 {
				opts = append(opts, board.Offline(t.TempDir()), board.Patience(50*time.Millisecond))
			}
			if i%3 == 0 {
				opts = append(opts, board.WithoutPush())
			}
			b := join(t, s, opts...)
			way, boards, vars = append(way, l), append(boards, b), append(vars, board.On(b, sum))
		}
		stop := make(chan struct{})
		var watching, working sync.WaitGroup
		for i, v := range vars {
			watching.Go(func() {
				last := int64(0)
				for state := range v.Watch(t.Context()) {
					if state.Version < last {
						assert.Fail(t, "a version fell", "phone %d: %d after %d", i, state.Version, last)
					}
					last = state.Version
					select {
					case <-stop:
						return
					default:
					}
				}
			})
		}
		var done, unknown atomic.Int64
		for i, v := range vars {
			working.Go(func() {
				own := board.On(boards[i], pantry.Int(fmt.Sprint("own/", i), 0))
				for n := range each {
					var err error
					if n%5 == 4 {
						err = own.Set(t.Context(), n)
					} else {
						_, err = board.Add(t.Context(), v, 1)
					}
					switch {
					case err == nil, errors.Is(err, board.ErrQueued):
						if n%5 != 4 {
							done.Add(1)
						}
					case errors.Is(err, board.ErrUnreachable) && i%2 == 1:
						if n%5 != 4 {
							unknown.Add(1)
						}
					default:
						assert.NoError(t, err)
					}
				}
			})
		}
		for range 3 {
			time.Sleep(300 * time.Millisecond) // the restarts spread over the work; any moment will do
			s.Restart()
		}
		working.Wait()
		for _, l := range way {
			l.calm.Store(true)
		}
		for _, b := range boards {
			require.True(t, sent(t, b))
			for _, p := range b.Pending() {
				assert.NoError(t, p.Err)
			}
		}
		calm := join(t, s)
		total, _, err := board.On(calm, sum).Lookup(t.Context())
		require.NoError(t, err)
		assert.GreaterOrEqual(t, int64(total), done.Load(), "what was answered or queued is counted")
		assert.LessOrEqual(t, int64(total), done.Load()+unknown.Load(), "and once")
		t.Logf("%d added, of %d it was not known", total, unknown.Load())
		for i, v := range vars {
			require.Eventually(t, func() bool { return v.Get() == total }, hang.Patience, 10*time.Millisecond, "phone %d", i)
		}
		entries, _, err := calm.All(t.Context(), "own/")
		require.NoError(t, err)
		for _, e := range entries {
			i := 0
			_, err := fmt.Sscanf(strings.TrimPrefix(e.Name, "own/"), "%d", &i)
			require.NoError(t, err)
			if i%2 == 0 {
				assert.Equal(t, fmt.Sprint(each-1), e.Value.String(), "the last of its own puts is stored")
			}
		}
		close(stop)
		for _, b := range boards {
			require.NoError(t, b.Close())
		}
		watching.Wait()
	})
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
}

// If somebody else removes or changes a board, a link or a value, the state says so.
func TestNamedEnds(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	b, other := join(t, s), join(t, s)
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 420))
	until(t, tank, shows(420))
	_, err := other.Commit(t.Context(), board.OpPut(board.On(other, pantry.Text("tank/litres", "")), "plenty"))
	require.NoError(t, err)
	state := until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Unreadable })
	assert.ErrorIs(t, state.Err, pantry.ErrWrongKind)
	admin, err := board.NewAdmin(strings.TrimSuffix(s.Link(""), "/boards/"))
	require.NoError(t, err)
	require.NoError(t, admin.Delete(t.Context(), "rowan-street"))
	until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Current && !s.Found && s.Value == 0 })
	require.NoError(t, board.On(other, tankLitres).Set(t.Context(), 7))
	until(t, tank, func(s board.State[int]) bool { return s.Value == 7 && s.Version == 1 }) // made again: lower versions, and the newest value
	s.Garble("tank/litres")
	until(t, board.On(join(t, s), tankLitres), func(s board.State[int]) bool { return s.Phase == board.Unreadable && s.Value == 0 })
	s.Garble("")
	s.Slow(30 * time.Millisecond)
	require.NoError(t, tank.Set(t.Context(), 8))
	until(t, tank, shows(8))
	s.Slow(0)

	// A backup is put back: what it holds is shown, though its versions are lower.
	file := filepath.Join(s.Dir(), "rowan-street.jsonl")
	backup, err := os.ReadFile(file)
	require.NoError(t, err)
	for n := range 5 {
		require.NoError(t, tank.Set(t.Context(), 100+n))
	}
	require.NoError(t, os.WriteFile(file+".new", backup, 0o600))
	require.NoError(t, os.Rename(file+".new", file))
	s.Restart()
	until(t, tank, func(s board.State[int]) bool { return s.Value == 8 && s.Phase == board.Current })
	now, err := board.Add(t.Context(), tank, 1)
	require.NoError(t, err)
	assert.Equal(t, 9, now)
}

// A link that is revoked under an app is named, and what was known last is shown.
func TestRevokedLink(t *testing.T) {
	t.Parallel()
	owner, stop := serve()
	defer stop()
	o, err := board.Join(owner)
	require.NoError(t, err)
	defer o.Close()
	require.NoError(t, board.On(o, tankLitres).Set(t.Context(), 420))
	link, err := o.Invite(t.Context(), board.Invitation{May: "write", Label: "phone"})
	require.NoError(t, err)
	var met problems
	b, err := board.Join(link.Link, board.Poll(5*time.Millisecond, 20*time.Millisecond), board.Offline(t.TempDir()), board.OnProblem(met.add))
	require.NoError(t, err)
	defer b.Close()
	tank := board.On(b, tankLitres)
	until(t, tank, shows(420))
	require.Eventually(t, func() bool { return b.Status().Way == "push" }, hang.Patience, time.Millisecond)
	require.NoError(t, o.Revoke(t.Context(), link.ID))
	state := until(t, tank, func(s board.State[int]) bool { return s.Phase == board.Stale })
	assert.Equal(t, 420, state.Value)
	assert.ErrorIs(t, state.Err, board.ErrForbidden)
	err = tank.Set(t.Context(), 1)
	assert.ErrorIs(t, err, board.ErrForbidden)
	assert.NotErrorIs(t, err, board.ErrQueued, "it would never be taken")
	require.Eventually(t, func() bool { return met.like(board.ErrForbidden) == 1 }, hang.Patience, time.Millisecond, "told once")
}
