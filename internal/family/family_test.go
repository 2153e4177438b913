package family_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/family"
)

func TestOf(t *testing.T) {
	assert.Equal(t, []string{"watered/C4/east", "watered/C4", "watered"}, slices.Collect(family.Of("watered/C4/east")))
	assert.Equal(t, []string{"plot"}, slices.Collect(family.Of("plot")))
	for name := range family.Of("a/b/c") {
		if name == "a/b" {
			break
		}
		assert.Equal(t, "a/b/c", name)
	}
}
