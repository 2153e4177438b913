package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each fault of the list still applies to the code. `make faults` shows that a test
// notices it.
func TestFaultsApply(t *testing.T) {
	t.Parallel()
	require.NotEmpty(t, faults)
	for _, f := range faults {
		code, err := os.ReadFile(filepath.Join("../..", f.file))
		if assert.NoError(t, err, f.promise) {
			assert.Equal(t, 1, strings.Count(string(code), f.old), "%s, %s: the fault's old text must occur once", f.file, f.promise)
			assert.NotEqual(t, f.old, f.new, f.promise)
			assert.NotEmpty(t, f.suite(), f.promise)
		}
	}
}
