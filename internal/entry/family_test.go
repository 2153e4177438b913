package entry_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/entry"
)

func TestFamilies(t *testing.T) {
	t.Parallel()
	assert.Equal(t, []string{"watered/C4/east", "watered/C4", "watered"}, slices.Collect(entry.Families("watered/C4/east")))
	assert.Equal(t, []string{"plot"}, slices.Collect(entry.Families("plot")))
	for name := range entry.Families("a/b/c") {
		if name == "a/b" {
			break
		}
		assert.Equal(t, "a/b/c", name)
	}
}
