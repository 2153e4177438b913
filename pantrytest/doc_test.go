package pantrytest_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What the package's documentation shows compiles, in an app that has what it names.
func TestDocumentationCompiles(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("doc.go")
	require.NoError(t, err)
	var blocks []string
	within := false
	for line := range strings.Lines(string(doc)) {
		code, isCode := strings.CutPrefix(line, "//\t")
		if isCode && !within {
			blocks = append(blocks, "")
		}
		if within = isCode; isCode {
			blocks[len(blocks)-1] += code
		}
	}
	require.Len(t, blocks, 5)
	code := `package app

import (
	"testing"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/pantrytest"
)

type Plotbook struct{}

func Launch(dir string) (*Plotbook, error) { return nil, nil }
func (*Plotbook) Close() error             { return nil }
func (*Plotbook) Screen() string           { return "" }
func (*Plotbook) TickC4() error            { return nil }
func (*Plotbook) Reset() error             { return nil }

var reminderHour, plot = pantry.Int("reminder-hour", 18), pantry.Text("plot", "")

` + blocks[0] + `
func spoil(t *testing.T, app pantrytest.App[*Plotbook]) {
` + blocks[1] + `}

func device(t *testing.T) {
` + blocks[2] + `	_, _ = app, err
}

func usage(t *testing.T, ns *pantry.Namespace) {
` + blocks[3] + `}

func twice(t *testing.T, dir string) {
` + blocks[4] + `}
`
	file := filepath.Join(t.TempDir(), "app_test.go")
	require.NoError(t, os.WriteFile(file, []byte(code), 0o600))
	said, err := exec.Command("go", "vet", "-composites=false", file).CombinedOutput()
	require.NoError(t, err, "%s\n%s", said, code)
}
