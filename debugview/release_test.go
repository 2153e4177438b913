package debugview_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a program carries that calls debugview: in a release nothing of it.
func TestRelease(t *testing.T) {
	t.Parallel()
	carried := func(tags string) []string {
		out, err := exec.Command("go", "list", "-deps", "-tags", tags, ".").Output()
		require.NoError(t, err)
		return strings.Fields(string(out))
	}
	release, debug := carried(""), carried("pantrydebug")
	for _, pkg := range []string{"net", "net/http", "github.com/small-pantry/pantry/server", "log/slog", "crypto/tls"} {
		assert.NotContains(t, release, pkg)
		assert.Contains(t, debug, pkg)
	}
	assert.Less(t, len(release), len(debug)/2)
}
