package console

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// Page reads a document for a test of another module. Go runs a passed test again if a file changes
// that it has read, but only a file of its own module, or if an environment variable changes that it
// has read. DOCS is a checksum of the documents, which make sets.
func Page(t testing.TB, path string) string {
	t.Helper()
	_ = os.Getenv("DOCS")
	page, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(page)
}
