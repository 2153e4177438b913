package main

import (
	"regexp"
	"strings"

	"github.com/small-pantry/pantry"
)

// Everything that the app keeps, each declared once.
var (
	reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind of watering")
	units        = pantry.OneOf("units", "metric", "imperial").About("how spacings are shown")
	plot         = pantry.Text("plot", "").Check(checkBed).About("the gardener's own bed")
	plantings    = pantry.RecordsOf[planting]("plantings").About("what grows where")
)

// A sentence is an error to show to the user.
type sentence string

func (s sentence) Error() string { return string(s) }

// A planting is what grows in a bed.
type planting struct {
	Crop      string
	Bed       string
	SpacingCm int
}

var bed = regexp.MustCompile(`^[A-H][1-9]$`)

// checkBed allows no bed, and those that the garden has.
func checkBed(name string) error {
	if name != "" && !bed.MatchString(name) {
		return sentence("The garden's beds are A1 to H9.")
	}
	return nil
}

// parsePlanting reads "beans, C4, 30": a crop, a bed, and a spacing in cm.
func parsePlanting(typed string) (planting, error) {
	parts := strings.Split(typed, ",")
	if len(parts) != 3 {
		return planting{}, sentence("Enter crop, bed and spacing in cm, as in: beans, C4, 30")
	}
	p := planting{Crop: strings.TrimSpace(parts[0]), Bed: strings.ToUpper(strings.TrimSpace(parts[1]))}
	if p.Crop == "" {
		return planting{}, sentence("Enter what is planted, as in: beans, C4, 30")
	}
	if p.Bed == "" {
		return planting{}, sentence("Enter the bed, as in: beans, C4, 30")
	}
	if err := checkBed(p.Bed); err != nil {
		return planting{}, err
	}
	var err error
	p.SpacingCm, err = spacing.Parse(parts[2])
	return p, err
}

// spacing is no entry by itself: it reads and checks the number in a planting.
var spacing = pantry.Int("spacing-cm", 30).Between(1, 300)
