package main

import (
	"context"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

// gatehouse is at the gate: it opens it, hangs up notices, and calls the next bed to the
// hose. Its link may write.
type gatehouse struct {
	b       *board.Board
	gate    board.Var[bool]
	notices board.Var[[]string]
	queue   board.Var[[]string]
	turn    board.Var[string]

	text  string // what is typed
	types bool
}

func newGatehouse(b *board.Board) *phone {
	return &phone{b: b, app: &gatehouse{
		b: b, gate: board.On(b, gateOpen), notices: board.On(b, notices), queue: board.On(b, hoseQueue), turn: board.On(b, hoseBed),
	}}
}

func (g *gatehouse) title() string { return "gatehouse" }

func (g *gatehouse) keys() []pantry.AnyKey {
	return []pantry.AnyKey{gateOpen, notices, hoseQueue, hoseBed}
}

func (g *gatehouse) help() string {
	if g.types {
		return "enter hangs it up · esc leaves it"
	}
	return "o gate · n notice · c next at hose"
}

func (g *gatehouse) lines() []string {
	gate := g.gate.State()
	is := "shut"
	if gate.Value {
		is = "open"
	}
	lines := []string{"The gate is " + strong.Render(is) + "." + known(gate), "", "Notices" + known(g.notices.State())}
	for _, n := range g.notices.Get() {
		lines = append(lines, "· "+n)
	}
	lines = append(lines, "")
	if turn := g.turn.Get(); turn != "" {
		lines = append(lines, "At the hose: bed "+turn)
	}
	for _, bed := range g.queue.Get() {
		lines = append(lines, faint.Render("waits: bed "+bed))
	}
	if g.types {
		lines = append(lines, "", "Notice: "+g.text+"▏")
	}
	return lines
}

// typing takes what is typed of a notice; enter is left to key.
func (g *gatehouse) typing(k string) bool {
	switch {
	case !g.types || k == "enter":
		return false
	case k == "esc":
		g.types = false
	case k == "backspace":
		if r := []rune(g.text); len(r) > 0 {
			g.text = string(r[:len(r)-1])
		}
	case len([]rune(k)) == 1:
		g.text += k
	}
	return true
}

func (g *gatehouse) key(k string) *task {
	switch k {
	case "o":
		open := !g.gate.Get()
		return &task{func(ctx context.Context) error { return g.gate.Set(ctx, open) }, "done"}
	case "n":
		g.types = true
	case "enter":
		if !g.types || g.text == "" {
			return nil
		}
		text := g.text
		g.types, g.text = false, ""
		return &task{func(ctx context.Context) error {
			_, err := board.Append(ctx, g.notices, text)
			return err
		}, "it hangs at the gate"}
	case "c":
		return &task{g.callNext, "called"}
	}
	return nil
}

// callNext takes the first bed out of the queue, and says that it is its turn: both or
// neither, even if others call.
func (g *gatehouse) callNext(ctx context.Context) error {
	if len(g.queue.Get()) == 0 {
		return g.turn.Clear(ctx)
	}
	next := g.queue.Get()[0]
	_, err := g.b.Commit(ctx, board.OpRemove(g.queue, next), board.OpPut(g.turn, next))
	return err
}
