package main

import (
	"strings"
	"testing"

	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWaterDay(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	require.NoError(t, run(t.Context(), nil, &out))
	assert.Equal(t, `litres left in the tank            4000
beds still waiting for the hose    0
beds that had the hose, each once  30
heaviest marrow, in grams          1029
`, out.String())
	assert.ErrorContains(t, run(t.Context(), []string{"rowan-street"}, &out), "no link")
}
