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
