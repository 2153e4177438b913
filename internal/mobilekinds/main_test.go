package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The generated files are those of the templates.
func TestCurrent(t *testing.T) {
	t.Parallel()
	for path, text := range files {
		want, err := generate(text)
		require.NoError(t, err)
		got, err := os.ReadFile("../../mobile/" + path)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got), "%s: run go generate ./mobile", path)
	}
}
