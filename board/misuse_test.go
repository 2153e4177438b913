package board_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Nothing is stored that the key's own Check forbids, by any operation, and two phones at once
// still count.
func TestOperationsObeyCheck(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	even := pantry.Int("even", 0).Check(func(n int) error {
		if n%2 != 0 {
			return errors.New("Only pairs of cans can be stored.")
		}
		return nil
	})
	one, other := board.On(join(t, s), even), board.On(join(t, s), even)
	_, err := board.Add(t.Context(), one, 3)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	sentence, _ := pantry.Sentence(err)
	assert.Equal(t, "Only pairs of cans can be stored.", sentence)
	_, found, err := one.Lookup(t.Context())
	assert.Equal(t, []any{false, nil}, []any{found, err})
	added := make(chan error)
	for _, v := range []board.Var[int]{one, other} {
		go func() {
			for range 4 {
				if _, err := board.Add(t.Context(), v, 2); err != nil {
					added <- err
					return
				}
			}
			added <- nil
		}()
	}
	require.NoError(t, errors.Join(<-added, <-added))
	n, _, err := one.Lookup(t.Context())
	assert.Equal(t, []any{16, nil}, []any{n, err})
	_, err = board.Raise(t.Context(), one, 17)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
}

// Each op of a Commit carries its own refusal.
func TestCommitRefusesAsSetDoes(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	b := join(t, s, board.Offline(t.TempDir()))
	hour := board.On(b, pantry.Int("hour", 18).Between(0, 23))
	want := hour.Set(t.Context(), 99)
	require.ErrorIs(t, want, pantry.ErrInvalid)
	_, err := b.Commit(t.Context(), board.OpAdd(board.On(b, tankLitres), 1), board.OpPut(hour, 99))
	require.ErrorIs(t, err, pantry.ErrInvalid)
	told, _ := pantry.Sentence(want)
	got, ok := pantry.Sentence(err)
	assert.True(t, ok)
	assert.Equal(t, told, got)
	assert.Empty(t, b.Pending(), "it is not queued")
	_, found, err := b.Entry(t.Context(), tankLitres.Name())
	assert.Equal(t, []any{false, nil}, []any{found, err})
}

// A conflict says who stored what, without versions.
func TestSentenceOfAConflict(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	one, other := join(t, s), join(t, s, board.ClientName("tankwatch"))
	tank := board.On(one, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 400))
	seen := tank.State()
	require.NoError(t, board.On(other, tankLitres).Set(t.Context(), 410))
	err := tank.SetIf(t.Context(), seen, 420)
	require.ErrorIs(t, err, pantry.ErrConflict)
	sentence, ok := pantry.Sentence(err)
	assert.True(t, ok)
	assert.Regexp(t, `tankwatch.* changed tank/litres to 410 at \d\d:\d\d\. Your change was not stored\.$`, sentence)
}

// The sentence of an error does not say that a change was not stored if that is not known.
func TestSentenceWithoutAnAnswer(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	b := join(t, s, board.Patience(time.Millisecond))
	tank := board.On(b, tankLitres)
	require.NoError(t, tank.Set(t.Context(), 400))
	s.LoseAnswers(1)
	_, err := board.Add(t.Context(), tank, -10)
	require.ErrorIs(t, err, board.ErrUnreachable)
	sentence, ok := pantry.Sentence(err)
	assert.True(t, ok)
	assert.Contains(t, sentence, "may have been stored")
	nowhere, err := board.Join("http://127.0.0.1:1/boards/rowan-street", board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	defer nowhere.Close()
	_, err = board.Add(t.Context(), board.On(nowhere, tankLitres), -10)
	require.ErrorIs(t, err, board.ErrUnreachable)
	sentence, _ = pantry.Sentence(err)
	assert.Contains(t, sentence, "was not stored")
}

// What can't be meant is refused with what to do instead.
func TestMisuseOfJoin(t *testing.T) {
	t.Parallel()
	const link = "http://127.0.0.1:1/boards/rowan-street"
	for says, opt := range map[string]board.Option{"HTTPClient needs a client": board.HTTPClient(nil), "Offline needs a directory": board.Offline(""), "an option is nil": nil} {
		_, err := board.Join(link, opt)
		assert.ErrorIs(t, err, pantry.ErrInvalid)
		assert.ErrorContains(t, err, says)
	}
	b, err := board.Join(link, board.OnProblem(func(pantry.Problem) {}), board.Offline(t.TempDir()))
	require.NoError(t, err)
	defer b.Close()
	tank := board.On(b, tankLitres)
	var none context.Context
	for _, misuse := range []func(){
		func() { _ = tank.Set(none, 1) },
		func() { _ = b.Ready(none) },
		func() { _, _, _ = b.Entry(none, "tank") },
	} {
		assert.PanicsWithValue(t, pantryPanic{}, func() {
			defer func() {
				if s, ok := recover().(string); ok && strings.Contains(s, "needs a context") {
					panic(pantryPanic{})
				}
			}()
			misuse()
		})
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	err = tank.Set(ended, 1)
	assert.ErrorIs(t, err, context.Canceled)
	assert.ErrorContains(t, err, "the app ended the call")
	assert.Empty(t, b.Pending(), "nothing is queued")
}

type pantryPanic struct{}

// The sentence for a read that failed says nothing of a change.
func TestSentenceOfARead(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	tank := board.On(join(t, s), tankLitres)
	require.NoError(t, tank.Set(t.Context(), 420))
	s.Cut()
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, _, err := tank.Lookup(short)
	require.ErrorIs(t, err, board.ErrUnreachable)
	sentence, ok := pantry.Sentence(err)
	assert.True(t, ok)
	assert.Equal(t, "No connection to the board. Try again in a while.", sentence)
}
