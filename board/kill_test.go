package board_test

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
)

// An app that is killed while it queues keeps every change that was acknowledged. Each counts once when the
// app runs again and reaches the server.
func TestKilledWhileQueueing(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	link := s.Link("rowan-street")
	if dir := os.Getenv("PANTRY_QUEUE_DIR"); dir != "" { // the app, which is killed
		link = os.Getenv("PANTRY_QUEUE_LINK")
		b, err := board.Join(link, board.Offline(dir), board.Patience(time.Millisecond), board.OnProblem(func(pantry.Problem) {}))
		require.NoError(t, err)
		tank := board.On(b, tankLitres)
		for {
			if _, err := board.Add(t.Context(), tank, 1); errors.Is(err, board.ErrQueued) {
				fmt.Println("queued")
			}
		}
	}
	dir := t.TempDir()
	s.Cut()
	told := 0
	for round := range 3 {
		app := exec.Command(os.Args[0], "-test.run", "^TestKilledWhileQueueing$")
		app.Env = append(os.Environ(), "PANTRY_QUEUE_DIR="+dir, "PANTRY_QUEUE_LINK="+link)
		out, err := app.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, app.Start())
		lines := bufio.NewScanner(out)
		for n := 0; lines.Scan(); {
			if lines.Text() != "queued" {
				continue
			}
			told++
			if n++; n == 20+30*round {
				require.NoError(t, app.Process.Kill())
			}
		}
		_ = app.Wait() // it says that it was killed
	}
	s.Connect()
	b := join(t, s, board.Offline(dir))
	tank := board.On(b, tankLitres)
	require.True(t, sent(t, b))
	stored, _, err := tank.Lookup(t.Context())
	require.NoError(t, err)
	assert.GreaterOrEqual(t, stored, told)
	assert.LessOrEqual(t, stored, told+3, "at most one in each launch that the app was not told of")
	assert.Positive(t, told)
}
