package main

import (
	"cmp"
	"strings"
	"time"

	"github.com/small-pantry/pantry/examples/plotbook/keys"
)

// parsePlanting reads "beans, C4, 30": a crop, a bed, and a spacing in cm. It was sown today.
func parsePlanting(typed string) (p keys.Planting, err error) {
	parts := strings.Split(typed, ",")
	if len(parts) != 3 {
		return p, keys.Sentence("Enter crop, bed and spacing in cm, as in: beans, C4, 30")
	}
	p.Sown = time.Now().Format(time.DateOnly)
	var errs [3]error
	p.Crop, errs[0] = keys.Crop.Parse(strings.TrimSpace(parts[0]))
	p.Bed, errs[1] = keys.Bed.Parse(strings.ToUpper(strings.TrimSpace(parts[1])))
	p.SpacingCm, errs[2] = keys.SpacingCm.Parse(parts[2])
	return p, cmp.Or(errs[:]...)
}
