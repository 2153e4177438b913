package main

import (
	"context"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
)

// A screen is the running app: what is typed goes in, and what it draws is
// collected.
type screen struct {
	t    *testing.T
	keys *io.PipeWriter
	done chan error

	mu    sync.Mutex
	drawn strings.Builder // since the last key
}

func (s *screen) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.drawn.Write(b)
}

func launch(t *testing.T, dir string) *screen {
	in, keys := io.Pipe()
	s := &screen{t: t, keys: keys, done: make(chan error, 1)}
	go func() { s.done <- run(context.Background(), dir, in, s) }()
	return s
}

// shows waits until something is drawn.
func (s *screen) shows(texts ...string) {
	s.t.Helper()
	for _, text := range texts {
		require.Eventually(s.t, func() bool {
			s.mu.Lock()
			defer s.mu.Unlock()
			return strings.Contains(s.drawn.String(), text)
		}, 10*time.Second, 5*time.Millisecond, "%q is not drawn: %q", text, &s.drawn)
	}
}

// types sends keys; what was drawn before is forgotten.
func (s *screen) types(keys ...string) {
	s.t.Helper()
	s.mu.Lock()
	s.drawn.Reset()
	s.mu.Unlock()
	_, err := io.WriteString(s.keys, strings.Join(keys, ""))
	require.NoError(s.t, err)
}

func (s *screen) quit() {
	s.types("q")
	require.NoError(s.t, <-s.done)
}

const (
	enter = "\r"
	down  = "\x1b[B"
	esc   = "\x1b"
)

func TestRestoresItself(t *testing.T) {
	dir := t.TempDir()
	s := launch(t, dir)
	s.shows("18:00", "metric", "none yet")
	s.types(enter, "2", "5", enter)
	s.shows(`"25" won't do. Enter a whole number from 0 to 23.`)
	s.types("\x7f", "\x7f", "7", enter)
	s.shows("7:00", "Stored.")
	s.types(down, enter)
	s.shows("imperial")
	s.types(down, enter, "z", "9", enter)
	s.shows("The garden's beds are A1 to H9.")
	s.types("\x7f", "\x7f", "c", "4", enter)
	s.shows("C4")
	s.types(down, enter, "b", "e", "a", "n", "s", enter)
	s.shows("as in: beans, C4, 30")
	s.types(",", "C", "4", ",", "3", "0", enter)
	s.shows("Bed C4", "11.8 in")
	s.quit()

	s = launch(t, dir)
	s.shows("7:00", "imperial", "C4", "beans", "11.8 in")
	s.types("r")
	s.shows("Reset everything?")
	s.types("n")
	s.shows("Nothing was reset.")
	s.types("r")
	s.shows("Reset everything?")
	s.types("y")
	s.shows("18:00", "metric", "none yet", "Everything is as at the first launch.")
	s.quit()

	s = launch(t, dir)
	s.shows("18:00", "metric", "none yet")
	s.quit()
}

func TestFollowsAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	s := launch(t, dir)
	s.shows("18:00")
	other, err := pantry.Open(dir, "plotbook")
	require.NoError(t, err)
	require.NoError(t, reminderHour.In(other).Set(21))
	s.shows("21:00")
	id, err := plantings.In(other).Add(planting{"peas", "B2", 5})
	require.NoError(t, err)
	s.shows("peas")
	s.types(down, down, down, "x")
	s.shows("Removed.")
	_, found, err := plantings.In(other).Lookup(id)
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, other.Close())
	s.types(down, enter)
	s.shows("esc: leave")
	s.types(esc)
	s.shows("q: quit")
	s.quit()
}
