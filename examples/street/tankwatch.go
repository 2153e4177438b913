package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

// tankwatch is on every gardener's phone: it takes water from the tank, and has its bed
// wait for the hose. Its link may add, and no more.
type tankwatch struct {
	still
	bed   string
	tank  board.Var[int]
	queue board.Var[[]string]
	turn  board.Var[string]
}

const can = 10 // litres

func newTankwatch(b *board.Board, bed string) *phone {
	return &phone{b: b, app: &tankwatch{bed: bed, tank: board.On(b, tankLitres), queue: board.On(b, hoseQueue), turn: board.On(b, hoseBed)}}
}

func (t *tankwatch) title() string         { return "tankwatch, bed " + t.bed }
func (t *tankwatch) help() string          { return "w take a can · h wait for the hose" }
func (t *tankwatch) keys() []pantry.AnyKey { return []pantry.AnyKey{tankLitres, hoseQueue, hoseBed} }

func (t *tankwatch) lines() []string {
	tank := t.tank.State()
	const bar = 30
	full := tank.Value * bar / 5000
	lines := []string{
		strong.Render(fmt.Sprintf("%d litres", tank.Value)) + known(tank),
		strings.Repeat("█", full) + strings.Repeat("░", bar-full),
		"",
	}
	if tank.By != "" {
		who := tank.By
		if tank.Mine {
			who = "you"
		}
		lines = append(lines, faint.Render("changed last by "+who))
	} else {
		lines = append(lines, "")
	}
	return append(lines, "", t.hose())
}

// hose says when it is the bed's turn.
func (t *tankwatch) hose() string {
	if t.turn.Get() == t.bed {
		return strong.Render("The hose is yours.")
	}
	for i, bed := range t.queue.Get() {
		if bed == t.bed {
			return fmt.Sprintf("You are number %d for the hose.", i+1) + known(t.queue.State())
		}
	}
	if n := len(t.queue.Get()); n > 0 {
		return fmt.Sprintf("%d wait for the hose.", n)
	}
	return "Nobody waits for the hose." // words: ok
}

func (t *tankwatch) key(k string) *task {
	switch k {
	case "w":
		return &task{func(ctx context.Context) error {
			_, err := board.Add(ctx, t.tank, -can) // counted on the server, so that no can is lost
			return err
		}, fmt.Sprintf("%d litres taken", can)}
	case "h":
		return &task{func(ctx context.Context) error {
			_, err := board.AppendUnique(ctx, t.queue, t.bed)
			return err
		}, "you wait for the hose"}
	}
	return nil
}
