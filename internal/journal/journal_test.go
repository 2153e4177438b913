package journal_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/journal"
)

func TestNames(t *testing.T) {
	for name, fits := range map[string]bool{
		"plotbook": true, "a": true, "0.a_b-c": true, "console": true, "com10": true, "lpt": true,
		"": false, "-a": false, ".a": false, "A": false, "a b": false, "com1": false, "nul.x": false, "a\n": false,
	} {
		assert.Equal(t, fits, journal.CheckName(name) == nil, "%q", name)
	}
}

func TestLocalDiskIsNoNetwork(t *testing.T) {
	assert.Empty(t, journal.Network(t.TempDir()))
	assert.Empty(t, journal.Network("/nowhere/at/all"))
}
