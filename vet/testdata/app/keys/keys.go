// Package keys declares what several apps share.
package keys

import "github.com/small-pantry/pantry"

// Best is the heaviest marrow.
var Best = pantry.Int("best", 0)
