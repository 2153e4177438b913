// Command settings is a screen of settings that is drawn from its keys: what each
// is for, what it allows, what it holds. The screen itself is screen.go.
//
//	go run ./examples/settings garden
package main

import (
	"bufio"
	"fmt"
	"io"
	"log"
	"os"

	"github.com/small-pantry/pantry"
)

var (
	reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind of watering")
	units        = pantry.OneOf("units", "metric", "imperial").About("how spacings are shown")
	beds         = pantry.List("beds", "C4").Keep(3).About("the beds to look after")
	pause        = pantry.Duration("pause", 0).About("how long no reminder comes")
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: settings DIR")
	}
	if err := run(os.Args[1], os.Stdin, os.Stdout); err != nil {
		log.Fatal(err)
	}
}

// run draws the screen, and again after each line that is entered.
func run(dir string, in io.Reader, out io.Writer) error {
	ns, err := pantry.Open(dir, "settings", pantry.Declare(reminderHour, units, beds, pause))
	if err != nil {
		return err
	}
	defer ns.Close()
	screen := []setting{of(ns, reminderHour), of(ns, units), of(ns, beds), of(ns, pause)}
	draw(out, screen)
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		if err := enter(screen, lines.Text()); err != nil {
			fmt.Fprintln(out, err)
			continue
		}
		draw(out, screen)
	}
	return lines.Err()
}
