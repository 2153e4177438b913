package term_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/cli/term"
)

func TestNatural(t *testing.T) {
	t.Parallel()
	want := []string{"", "bed", "Bed", "bed/1", "bed/2", "bed/02", "bed/10", "bed/10a", "bed/100", "bed-1", "Frost", "frost/warning", "n99999999999999999999", "n100000000000000000000", "zoo", "Äpfel"}
	slices.SortFunc(want, term.Natural)
	assert.Equal(t, []string{"", "Bed", "bed", "bed-1", "bed/1", "bed/02", "bed/2", "bed/10", "bed/10a", "bed/100", "Frost", "frost/warning", "n99999999999999999999", "n100000000000000000000", "zoo", "Äpfel"}, want)
	for _, a := range want {
		assert.Zero(t, term.Natural(a, a))
		for _, b := range want {
			assert.Equal(t, -term.Natural(b, a), term.Natural(a, b), "%q %q", a, b)
		}
	}
}
