package pantry_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The package ships inside phone apps: no network code, few modules.
func TestWhatAnAppPullsIn(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-f", "{{.ImportPath}} {{with .Module}}{{.Path}}{{end}}", ".").Output()
	require.NoError(t, err)
	modules := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		path, module, _ := strings.Cut(strings.TrimSpace(line), " ")
		assert.False(t, path == "net" || strings.HasPrefix(path, "net/"), "it imports %s", path)
		if module != "" && module != "github.com/small-pantry/pantry" {
			modules[module] = true
		}
	}
	assert.LessOrEqual(t, len(modules), 3, "%v", modules)
}
