// Command plotbook is a small app for a gardener's phone, in a terminal: settings, and what is
// planted in which bed. Each change is stored at once, and is there when the app is opened again.
//
//	go run ./examples/plotbook [DIR]
//
// While it runs, change something from another terminal and see it follow:
//
//	smallpantry put DIR/plotbook reminder-hour 7
//
// With -tags pantrydebug it shows a link under which a browser looks into it.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	tea "github.com/charmbracelet/bubbletea"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/debugview"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
)

func main() {
	dir, err := pantry.AppDir("plotbook")
	if len(os.Args) > 1 {
		dir, err = os.Args[1], nil
	}
	if err == nil {
		err = run(context.Background(), dir, os.Stdin, os.Stdout)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "plotbook:", err)
		os.Exit(1)
	}
}

// run opens the namespace, shows the app until it is left, and closes it.
func run(ctx context.Context, dir string, in io.Reader, out io.Writer) error {
	var found []pantry.Problem
	ns, err := pantry.Open(dir, "plotbook",
		pantry.Declare(keys.All()...),
		pantry.ClientName("plotbook"), // who it was, beside what others change from outside
		pantry.NoteUsage(),            // smallpantry check reports a key that is never read
		pantry.OnProblem(func(p pantry.Problem) { found = append(found, p) }))
	if err != nil {
		return err
	}
	view, err := debugview.Open(ns) // with -tags pantrydebug: a page on what the app has
	if err != nil {
		return errors.Join(err, ns.Close())
	}
	ctx, stop := context.WithCancel(ctx)
	p := tea.NewProgram(newApp(ns, view.Link(), found), tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out), tea.WithAltScreen())
	followed := make(chan struct{})
	go func() {
		defer close(followed)
		// One handler for the first values and for each later change, by anybody.
		for range ns.Watch(ctx, keys.All()...) {
			p.Send(changed{})
		}
	}()
	_, err = p.Run()
	stop()
	<-followed
	return errors.Join(err, view.Close(), ns.Close())
}
