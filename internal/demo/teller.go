package demo

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// A teller writes the story and compares what happened with what the story says.
type teller struct {
	w     io.Writer
	step  int
	wrong []error
}

// scene begins a part of the story.
func (t *teller) scene(title string) {
	t.step++
	fmt.Fprintf(t.w, "\n%2d  %s\n", t.step, title)
}

// say writes a line of it. What is longer than a terminal is wide goes on
// below, further in.
func (t *teller) say(format string, args ...any) {
	t.print(ansi.Wordwrap(fmt.Sprintf(format, args...), width-len(further), " "))
}

// quote writes a line of a file, as it is.
func (t *teller) quote(line string) { t.print(ansi.Hardwrap(line, width-len(further), true)) }

const (
	width   = 80
	in      = "    "
	further = "      "
)

func (t *teller) print(text string) {
	for i, line := range strings.Split(text, "\n") {
		if i == 0 {
			line = in + line
		} else {
			line = further + line
		}
		fmt.Fprintln(t.w, strings.TrimRight(line, " "))
	}
}

// expect notes where something is not as the story says.
func expect[T comparable](t *teller, what string, got, want T) {
	if got == want {
		return
	}
	err := fmt.Errorf("scene %d: %s is %v, and should be %v", t.step, what, got, want)
	t.wrong = append(t.wrong, err)
	t.say("!! %v", err)
}

// end sums up: an error where something was not as the story says.
func (t *teller) end() error {
	if len(t.wrong) > 0 {
		return fmt.Errorf("the demo did not go as it should: %w", errors.Join(t.wrong...))
	}
	fmt.Fprintf(t.w, "\nAll %d scenes went as they should; every figure above was read back from where it is stored.\n", t.step)
	return nil
}
