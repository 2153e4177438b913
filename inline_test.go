package pantry_test

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The compiler inlines Get.
func TestGetIsInlined(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "build", "-gcflags=-m=2", ".").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.NotRegexp(t, `cannot inline Var\[go\.shape\..*\]\.Get: `, string(out))
	assert.Regexp(t, `can inline Var\[go\.shape\..*\]\.Get with cost`, string(out))
}
