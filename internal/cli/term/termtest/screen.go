// Package termtest runs a terminal program in a test, as somebody who types and reads.
package termtest

import (
	"io"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
)

// A Screen is a program that runs: what is typed goes in, and what it draws is collected.
type Screen struct {
	t     *testing.T
	keys  *io.PipeWriter
	ended chan error

	mu    sync.Mutex
	drawn strings.Builder // since the last key
}

// Launch runs a program.
func Launch(t *testing.T, run func(in io.Reader, out io.Writer) error) *Screen {
	in, keys := io.Pipe()
	s := &Screen{t: t, keys: keys, ended: make(chan error, 1)}
	go func() { s.ended <- run(in, s) }()
	return s
}

// Write takes what the program draws.
func (s *Screen) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.drawn.Write(b)
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;?]*[a-zA-Z]")

func (s *Screen) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return escapes.ReplaceAllString(s.drawn.String(), "")
}

// Types sends keys, after which something must be drawn. What was drawn before is forgotten.
func (s *Screen) Types(keys string, shows ...string) {
	s.t.Helper()
	s.mu.Lock()
	s.drawn.Reset()
	s.mu.Unlock()
	if _, err := io.WriteString(s.keys, keys); err != nil {
		s.t.Fatal(err)
	}
	s.Shows(shows...)
}

// Shows waits until texts are drawn.
func (s *Screen) Shows(texts ...string) {
	s.t.Helper()
	for _, text := range texts {
		for until := time.Now().Add(20 * time.Second); !strings.Contains(s.text(), text); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(until) {
				s.t.Fatalf("%q is not drawn: %s", text, s.text())
			}
		}
	}
}

// Quit sends the keys that end the program, and waits until it has ended well.
func (s *Screen) Quit(keys string) {
	s.t.Helper()
	s.Types(keys)
	if err := <-s.ended; err != nil {
		s.t.Fatal(err)
	}
}
