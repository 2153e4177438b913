package journal_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/simdisk"
)

func TestNames(t *testing.T) {
	t.Parallel()
	for name, fits := range map[string]bool{
		"plotbook": true, "a": true, "0.a_b-c": true, "console": true, "com10": true, "lpt": true,
		"": false, "-a": false, ".a": false, "A": false, "a b": false, "com1": false, "nul.x": false, "a\n": false,
	} {
		assert.Equal(t, fits, journal.CheckName(name) == nil, "%q", name)
	}
}

// The name of each new directory is synced before a file is made in it.
func TestMakeDir(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	dir := filepath.Join(root, "data", "boards")
	bad := simdisk.New()
	bad.Fault(func(op, _ string) error {
		if op == "syncdir" {
			return syscall.EIO
		}
		return nil
	})
	assert.ErrorIs(t, journal.MakeDir(bad, dir), syscall.EIO)
	assert.NoDirExists(t, dir)
	require.NoError(t, os.Remove(filepath.Dir(dir)))
	disk := &simdisk.DirRecorder{Disk: journal.OS}
	require.NoError(t, journal.MakeDir(disk, dir))
	assert.Equal(t, []string{root, filepath.Dir(dir)}, disk.Synced)
	require.NoError(t, journal.MakeDir(disk, dir))
	assert.Len(t, disk.Synced, 2, "what is there is")
	file := filepath.Join(root, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Symlink(filepath.Join(root, "nowhere"), filepath.Join(root, "link")))
	for _, bad := range []string{file, filepath.Join(file, "below"), filepath.Join(root, "link")} {
		assert.Error(t, journal.MakeDir(disk, bad), bad)
	}
	disk.Synced = nil
	other, err := journal.Attach(disk, filepath.Join(root, "other", "one"), "plotbook", false)
	require.NoError(t, err)
	require.NoError(t, other.Close())
	assert.Equal(t, []string{root, filepath.Join(root, "other")}, disk.Synced)
}

func TestLocalDiskIsNoNetwork(t *testing.T) {
	t.Parallel()
	assert.Empty(t, journal.Network(t.TempDir()))
	assert.Empty(t, journal.Network("/nowhere/at/all"))
}
