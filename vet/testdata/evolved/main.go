// Command evolved is a new version of an app whose older version has stored a file.
package main

import "github.com/small-pantry/pantry"

type settings struct {
	ReminderHours int // was ReminderHour
	Units         string
}

type planting struct {
	Crop    string
	Heading string // was Title
}

var (
	prefs     = pantry.Fields(settings{ReminderHours: 18})
	plantings = pantry.RecordsOf[planting]("plantings")
	spacing   = pantry.Int("spacing", 30) // was a text
	total     = pantry.Float("total", 0)
)

func main() {
	ns, err := pantry.Open(".", "plotbook", pantry.Declare(prefs, plantings, spacing, total))
	if err != nil {
		panic(err)
	}
	defer ns.Close()
	_ = prefs.In(ns).Get()
	for range plantings.In(ns).All() {
	}
	if _, err := plantings.In(ns).Add(planting{}); err != nil {
		panic(err)
	}
	if err := spacing.In(ns).Set(spacing.In(ns).Get()); err != nil {
		panic(err)
	}
	if err := total.In(ns).Set(total.In(ns).Get()); err != nil {
		panic(err)
	}
}
