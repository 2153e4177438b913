package pantry_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The package ships inside phone apps: no network code, nothing that is large,
// and one module besides the standard library.
func TestWhatAnAppPullsIn(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-deps", "-f", "{{.ImportPath}} {{with .Module}}{{.Path}}{{end}}", ".").Output()
	require.NoError(t, err)
	modules := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		path, module, _ := strings.Cut(strings.TrimSpace(line), " ")
		for _, heavy := range []string{"net", "regexp", "encoding/json", "log/slog", "crypto/aes", "crypto/cipher", "crypto/rand", "text/template"} {
			assert.False(t, path == heavy || strings.HasPrefix(path, heavy+"/"), "it imports %s", path)
		}
		if module != "" && module != "github.com/small-pantry/pantry" {
			modules[module] = true
		}
	}
	assert.Equal(t, map[string]bool{"golang.org/x/sys": true}, modules)
}

// The test of an app without boards imports no server.
func TestDeviceTestsNeedNoServer(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-deps", "./pantrytest").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "github.com/small-pantry/pantry/pantrytest\n")
	for _, path := range []string{"pantry/server", "pantry/board", "chi", "prometheus"} {
		assert.NotContains(t, string(out), path)
	}
}

// No package imports one of a layer above its own, and only the server's and the
// client's packages know HTTP. See docs/architecture.md.
func TestLayers(t *testing.T) {
	t.Parallel()
	layers := []string{ // from the bottom
		"internal/scan", "value", "internal/entry", "internal/journal", "internal/ledger", "internal/rules",
		"internal/wire", "internal/access", "internal/store", "", "board server", "internal/cli/place", "cmd/smallpantry",
	}
	level := map[string]int{}
	for i, names := range layers {
		for name := range strings.FieldsSeq(names + " ") {
			level["github.com/small-pantry/pantry/"+name] = i
		}
		if names == "" {
			level["github.com/small-pantry/pantry"] = i
		}
	}
	const below = 8 // internal/store
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	require.NoError(t, err)
	seen := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		own, there := level[fields[0]]
		if !there {
			continue
		}
		seen++
		for _, path := range fields[1:] {
			if other, there := level[path]; there {
				assert.Less(t, other, own, "%s imports %s", fields[0], path)
			}
			if own <= below && !strings.HasSuffix(fields[0], "/wire") { // which has the status of each error
				assert.NotContains(t, []string{"net/http", "flag", "html/template", "github.com/spf13/cobra"}, path, "%s", fields[0])
			}
		}
	}
	assert.Equal(t, len(level), seen, "every layer is there")
}
