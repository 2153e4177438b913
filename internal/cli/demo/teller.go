package demo

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/term"
)

// A teller prints the story and compares what happened with what is expected.
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

// say prints a line. A line wider than the terminal continues below, indented.
func (t *teller) say(format string, args ...any) {
	t.print(term.Wrap(fmt.Sprintf(format, args...), width-len(further)))
}

// quote prints a line of a file unchanged.
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

// expect records a value that is not as expected.
func expect[T comparable](t *teller, what string, got, want T) {
	if got == want {
		return
	}
	err := fmt.Errorf("scene %d: %s is %v, and should be %v", t.step, what, got, want)
	t.wrong = append(t.wrong, err)
	t.say("!! %v", err)
}

// sentence returns the sentence of an error for people, as an app shows it.
func sentence(err error) string {
	if s, ok := pantry.Sentence(err); ok {
		return s
	}
	return fmt.Sprint(err)
}

// end returns an error if anything was not as expected.
func (t *teller) end() error {
	if len(t.wrong) > 0 {
		return fmt.Errorf("the demo did not go as expected: %w", errors.Join(t.wrong...))
	}
	return nil
}
