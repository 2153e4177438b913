// Command settings is plotbook on a phone's screen: its settings and plantings, each input
// drawn from its key. What is changed is stored at once, off the thread that draws, and what
// others change in the file shows at once.
//
//	go run . [DIR]
//
// Beside it, plotbook in a terminal has the same file: go run ./examples/plotbook DIR. For a
// phone it is packed with fyne package; docs/phone-go.md has the lines.
package main

import (
	"errors"
	"log"
	"os"

	"fyne.io/fyne/v2"
	"fyne.io/fyne/v2/app"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
)

func main() {
	a := app.NewWithID("rowanstreet.plotbook")
	a.Settings().SetTheme(look{})
	dir := a.Storage().RootURI().Path() // the app's own, on a phone too
	if len(os.Args) > 1 {
		dir = os.Args[1]
	}
	if err := run(a, dir, fyne.Do); err != nil {
		log.Fatal("settings: ", err)
	}
}

// run opens the namespace, shows the screen until its window is closed, and closes all. do
// runs what is to be shown on the thread that draws.
func run(a fyne.App, dir string, do func(func())) error {
	ns, err := pantry.Open(dir, "plotbook", pantry.Declare(keys.All()...), pantry.ClientName("settings"))
	if err != nil {
		return err
	}
	s, err := newScreen(ns, a.NewWindow("Plotbook"), do)
	if err != nil {
		return errors.Join(err, ns.Close())
	}
	s.window.ShowAndRun()
	return errors.Join(s.close(), ns.Close())
}
