package boardtest_test

import (
	"testing"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
)

// In a test, t is its own.
var t *testing.T

// A board's server in the test. While it is cut off, phones queue their changes.
func ExampleServer() {
	s := boardtest.NewServer(t)
	b, err := board.Join(s.Link("garden"), board.Offline(t.TempDir()))
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	cans := board.On(b, pantry.Int("cans", 0))
	s.Cut()
	_, _ = board.Add(t.Context(), cans, 1) // ErrQueued
	s.Connect()
}
