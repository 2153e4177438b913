//go:build cross

package bindings

import (
	"strings"
	"testing"

	"github.com/small-pantry/pantry/bindings/jvm"
	"github.com/stretchr/testify/require"
)

// The Go and C code that gobind generates compiles for Android. It is not linked, which would need
// the Android NDK.
func TestAndroidCompiles(t *testing.T) {
	t.Parallel()
	cc := need(t, "aarch64-linux-gnu-gcc")
	need(t, "javac")
	require.NoError(t, jvm.Bind("_android", jvm.Packages, func(src string, _ []string, flags string) error {
		out := run(t, []string{"GOOS=android", "GOARCH=arm64", "CGO_ENABLED=1", "CC=" + cc, strings.Replace(flags, "-D__GOBIND_ANDROID__ ", "-D__GOBIND_ANDROID__ -Wno-incompatible-pointer-types ", 1)},
			"go", "list", "-tags", "netgo", "-export", "-f", "{{.Export}}", "./"+src)
		require.NotEmpty(t, strings.TrimSpace(out), "no package was compiled")
		return nil
	}))
}
