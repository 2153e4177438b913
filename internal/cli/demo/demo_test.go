package demo

import (
	"strings"
	"testing"

	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Run is tested by the command's script; here, that it would notice.
func TestExpectNotices(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	tell := &teller{w: &out}
	tell.scene("one")
	expect(tell, "the sum", 5, 5)
	require.NoError(t, tell.end())
	expect(tell, "the sum", 4, 5)
	err := tell.end()
	assert.ErrorContains(t, err, "scene 1: the sum is 4, and should be 5")
	assert.Contains(t, out.String(), "!! scene 1: the sum is 4")
}

func TestLinesFit(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	tell := &teller{w: &out}
	tell.say("%s", strings.Repeat("word ", 60))
	tell.quote(strings.Repeat("x", 200))
	for line := range strings.Lines(out.String()) {
		assert.LessOrEqual(t, len(strings.TrimSuffix(line, "\n")), 80)
	}
	assert.Equal(t, 200, strings.Count(out.String(), "x"))
}
