package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/lipgloss"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

// An app is what runs on one phone.
type app interface {
	title() string
	lines() []string            // what it shows
	help() string               // which keys it takes
	key(k string) (do *task)    // what a key does; nil: nothing
	keys() []pantry.AnyKey      // what it is about
	typing(k string) (ate bool) // takes a key while a text is typed
}

// A task is a change that waits for the network, with what is said when it is done.
type task struct {
	do   func(ctx context.Context) error
	done string
}

// changed says that something on the board did; finished how a task ended.
type changed struct{ of *phone }

type finished struct {
	of   *phone
	says string
}

// A phone is an app with its board, and what was said last.
type phone struct {
	app
	b    *board.Board
	says string
}

const wide = 36

var (
	paper  = lipgloss.NewStyle().Border(lipgloss.RoundedBorder()).Padding(0, 1).Width(wide)
	strong = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
)

// follow makes the program draw again after each change: one handler for the first
// sight and each later one.
func (p *phone) follow(ctx context.Context, send func(tea.Msg)) {
	go func() {
		tick := time.NewTicker(time.Second) // for how the connection is
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				send(changed{p})
			case <-ctx.Done():
				return
			}
		}
	}()
	for range p.b.Watch(ctx, p.keys()...) {
		send(changed{p})
	}
}

// press returns what a key does, off the thread that draws.
func (p *phone) press(k string) tea.Cmd {
	if p.typing(k) {
		return nil
	}
	t := p.key(k)
	if t == nil {
		return nil
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		err := t.do(ctx)
		var e *board.Error
		switch {
		case err == nil:
			return finished{p, t.done}
		case errors.Is(err, board.ErrQueued):
			return finished{p, "kept, and sent later"}
		case errors.As(err, &e):
			return finished{p, "not done: " + e.Sentence}
		}
		return finished{p, "not done: " + err.Error()}
	}
}

// connection says in plain words how the board is reached.
func (p *phone) connection() string {
	s := p.b.Status()
	waits := ""
	if s.Queued > 0 {
		waits = fmt.Sprintf(" %d of your changes wait.", s.Queued)
	}
	switch {
	case s.Err != nil && !errors.Is(s.Err, board.ErrUnreachable):
		return "This link is no longer valid."
	case s.Err != nil && s.Answered.IsZero():
		return "No connection." + waits
	case s.Err != nil:
		return "No connection since " + s.Answered.Format("15:04") + ". What is shown is from then." + waits
	case s.Answered.IsZero():
		return "Looking …"
	case s.Way == "poll":
		return "Asking every few seconds." + waits
	}
	return "Live." + waits
}

// draw returns the phone's screen.
func (p *phone) draw(high int, focus bool) string {
	head := strong.Render(p.title())
	if focus {
		head += faint.Render("  · here you type")
	}
	body := append([]string{head, "", faint.Render(p.connection()), ""}, p.lines()...)
	body = append(body, "", p.says, "", faint.Render(p.help()))
	style := paper.Height(high)
	if !focus {
		style = style.BorderForeground(lipgloss.Color("8"))
	}
	return style.Render(strings.Join(body, "\n"))
}

// known says how far a value can be trusted, beside it; nothing where it is current.
func known[T any](s board.State[T]) string {
	switch s.Phase {
	case board.Unknown:
		return faint.Render("  not known yet")
	case board.Stale:
		return faint.Render("  as it was")
	case board.Queued:
		return faint.Render("  before what waits")
	case board.Sending:
		return faint.Render("  sending")
	case board.Unreadable:
		return faint.Render("  can't be used")
	}
	return ""
}

// still is typing of an app in which nothing is typed.
type still struct{}

func (still) typing(string) bool { return false }
