package main

import (
	"context"
	"io"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A screen is the running program: what is typed goes in, and what it draws is collected.
type screen struct {
	t     *testing.T
	keys  *io.PipeWriter
	done  chan error
	mu    sync.Mutex
	drawn strings.Builder // since the last key
}

func (s *screen) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.drawn.Write(b)
}

func launch(t *testing.T, dir string, args ...string) *screen {
	in, keys := io.Pipe()
	s := &screen{t: t, keys: keys, done: make(chan error, 1)}
	go func() { s.done <- run(context.Background(), dir, args, in, s) }()
	return s
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;?]*[a-zA-Z]")

func (s *screen) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return escapes.ReplaceAllString(s.drawn.String(), "")
}

// types sends keys, after which something must be drawn.
func (s *screen) types(keys string, shows ...string) {
	s.t.Helper()
	s.mu.Lock()
	s.drawn.Reset()
	s.mu.Unlock()
	_, err := io.WriteString(s.keys, keys)
	require.NoError(s.t, err)
	s.shows(shows...)
}

func (s *screen) shows(texts ...string) {
	s.t.Helper()
	for _, text := range texts {
		require.Eventually(s.t, func() bool { return strings.Contains(s.text(), text) }, 20*time.Second, 5*time.Millisecond, "%q is not drawn: %s", text, s.text())
	}
}

// The three apps see what one of them does; without the server they say so, keep what is
// done, and catch up.
func TestStreet(t *testing.T) {
	s := launch(t, t.TempDir())
	s.shows("3200 litres in the tank", "The gate is shut.", "Live.")
	s.types("w", "3190 litres in the tank", "changed last by you")
	s.types("h", "Then C4.", "waits: bed C4")
	s.types("\t", "here you type")
	s.types("o", "The gate is open.")
	s.types("nWater at 6, box 2", "Notice: Water at 6, box 2▏")
	s.types("\r", "· Water at 6, box 2")
	s.types("c", "The hose is yours.", "At the hose: bed C4.")
	s.types("\t\tx", "No connection since")
	s.types("w", "kept, and sent later", "1 of your", "3190 litres  before what waits")
	s.types("w", "2 of your")
	s.types("x", "3170 litres in the tank", "Live.")
	s.types("\x03")
	assert.NoError(t, <-s.done)
	assert.ErrorContains(t, run(t.Context(), "", []string{"tankwatch"}, nil, io.Discard), "street tankwatch LINK")
	assert.ErrorContains(t, run(t.Context(), "", []string{"plotbook", "http://127.0.0.1:1/boards/b"}, nil, io.Discard), "there is no app")
	alone := launch(t, t.TempDir(), "shed", "http://127.0.0.1:1/boards/rowan-street")
	alone.shows("No connection.", "0 litres in the tank  not known")
	alone.types("\x03")
	assert.NoError(t, <-alone.done)
}
