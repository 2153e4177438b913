package main

import (
	"fmt"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

// shed is the display in the shed, which only watches. Its link may read.
type shed struct {
	still
	tank    board.Var[int]
	gate    board.Var[bool]
	notices board.Var[[]string]
	queue   board.Var[[]string]
	turn    board.Var[string]
}

func newShed(b *board.Board) *phone {
	return &phone{b: b, app: &shed{
		tank: board.On(b, tankLitres), gate: board.On(b, gateOpen), notices: board.On(b, notices), queue: board.On(b, hoseQueue), turn: board.On(b, hoseBed),
	}}
}

func (s *shed) title() string    { return "the display in the shed" }
func (s *shed) help() string     { return "it only watches" }
func (s *shed) key(string) *task { return nil }

func (s *shed) keys() []pantry.AnyKey {
	return []pantry.AnyKey{tankLitres, gateOpen, notices, hoseQueue, hoseBed}
}

func (s *shed) lines() []string {
	tank := s.tank.State()
	gate := "The gate is shut."
	if s.gate.Get() {
		gate = "The gate is open."
	}
	hose := "The hose is free."
	if turn := s.turn.Get(); turn != "" {
		hose = "At the hose: bed " + turn + "."
	}
	if waiting := s.queue.Get(); len(waiting) > 0 {
		hose += " Then " + strings.Join(waiting, ", ") + "."
	}
	lines := []string{strong.Render(fmt.Sprintf("%d litres in the tank", tank.Value)) + known(tank), "", gate, "", hose, ""}
	for _, n := range s.notices.Get() {
		lines = append(lines, "· "+n)
	}
	return lines
}
