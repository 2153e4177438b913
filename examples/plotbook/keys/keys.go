// Package keys is what plotbook keeps, each declared once: the app in a terminal and the
// one with a screen read and write the same file by it.
package keys

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
)

var (
	ReminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind of watering")
	Units        = pantry.OneOf("units", "metric", "imperial").About("how spacings are shown")
	Plot         = pantry.Text("plot", "").Check(checkBed).About("the gardener's own bed")
	Plantings    = pantry.RecordsOf[Planting]("plantings").About("what grows where")
)

// All returns every key, to declare and to watch.
func All() []pantry.AnyKey { return []pantry.AnyKey{ReminderHour, Units, Plot, Plantings} }

// A Planting is what grows in a bed.
type Planting struct {
	Crop      string
	Bed       string
	Sown      string // the day, as 2026-05-03; empty: not known
	SpacingCm int
}

// Spacing is what a planting needs, in the units that the gardener set.
func (p Planting) Spacing(units string) string {
	if units == "imperial" {
		return fmt.Sprintf("%.1f in", float64(p.SpacingCm)/2.54)
	}
	return fmt.Sprintf("%d cm", p.SpacingCm)
}

// ByBed returns the ids of plantings by their beds.
func ByBed(all pantry.Records[Planting]) []string {
	type row struct{ id, bed string }
	var rows []row
	for id, p := range all.All() {
		rows = append(rows, row{id, p.Bed})
	}
	slices.SortStableFunc(rows, func(x, y row) int { return strings.Compare(x.bed, y.bed) })
	ids := make([]string, len(rows))
	for i, r := range rows {
		ids[i] = r.id
	}
	return ids
}

// The parts of a planting are no entries by themselves: each of these reads and checks one.
var (
	Crop = pantry.Text("crop", "").Check(func(name string) error {
		if strings.TrimSpace(name) == "" {
			return Sentence("Enter what is planted.")
		}
		return nil
	}).About("what is planted")
	Bed = pantry.Text("bed", "").Check(func(name string) error {
		if name == "" {
			return Sentence("Enter the bed.")
		}
		return checkBed(name)
	}).About("the bed")
	Sown = pantry.Text("sown", "").Check(func(day string) error {
		if _, err := time.Parse(time.DateOnly, day); day != "" && err != nil {
			return Sentence("Enter the day, as in: 2026-05-03")
		}
		return nil
	}).About("the day it was sown")
	SpacingCm = pantry.Int("spacing-cm", 30).Between(1, 300).About("cm from plant to plant")
)

// A Sentence is an error to show to the user.
type Sentence string

func (s Sentence) Error() string { return string(s) }

var bed = regexp.MustCompile(`^[A-H][1-9]$`)

// checkBed allows no bed, and those that the garden has.
func checkBed(name string) error {
	if name != "" && !bed.MatchString(name) {
		return Sentence("The garden's beds are A1 to H9.")
	}
	return nil
}
