package main

import (
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/cli/term/termtest"
	_ "github.com/small-pantry/pantry/internal/test/hang"
)

func launch(t *testing.T, dir string, args ...string) *termtest.Screen {
	return termtest.Launch(t, func(in io.Reader, out io.Writer) error { return run(context.Background(), dir, args, in, out) })
}

// The three apps see what one of them does; without the server they say so, keep what is
// done, and catch up.
func TestStreet(t *testing.T) {
	t.Parallel()
	s := launch(t, t.TempDir())
	s.Shows("3200 litres in the tank", "The gate is shut.", "Live.")
	s.Types("w", "3190 litres in the tank", "changed last by you")
	s.Types("h", "Then C4.", "waits: bed C4")
	s.Types("\t", "here you type")
	s.Types("o", "The gate is open.")
	s.Types("nWater at 6, box 2", "Notice: Water at 6, box 2▏")
	s.Types("\r", "· Water at 6, box 2")
	s.Types("c", "The hose is yours.", "At the hose: bed C4.")
	s.Types("\t\tx", "No connection since")
	s.Types("w", "kept, and sent later", "1 of your", "3190 litres  before what waits")
	s.Types("w", "2 of your")
	s.Types("x", "3170 litres in the tank", "Live.")
	s.Quit("\x03")
	assert.ErrorContains(t, run(t.Context(), "", []string{"tankwatch"}, nil, io.Discard), "street tankwatch LINK")
	assert.ErrorContains(t, run(t.Context(), "", []string{"plotbook", "http://127.0.0.1:1/boards/b"}, nil, io.Discard), "there is no app")
	alone := launch(t, t.TempDir(), "shed", "http://127.0.0.1:1/boards/rowan-street")
	alone.Shows("No connection.", "0 litres in the tank  not known")
	alone.Quit("\x03")
}
