package journal_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
)

func TestNames(t *testing.T) {
	for name, fits := range map[string]bool{
		"plotbook": true, "a": true, "0.a_b-c": true, "console": true, "com10": true, "lpt": true,
		"": false, "-a": false, ".a": false, "A": false, "a b": false, "com1": false, "nul.x": false, "a\n": false,
	} {
		assert.Equal(t, fits, journal.CheckName(name) == nil, "%q", name)
	}
}

// A disk that tells which directories are synced, up to one that can't be.
type synced struct {
	journal.Disk
	dirs []string
	bad  string
}

func (d *synced) SyncDir(dir string) error {
	if dir == d.bad {
		return syscall.EIO
	}
	d.dirs = append(d.dirs, dir)
	return d.Disk.SyncDir(dir)
}

// The name of each directory that is made is synced before anything stands in it.
func TestMakeDir(t *testing.T) {
	root := t.TempDir()
	dir := filepath.Join(root, "data", "boards")
	disk := &synced{Disk: journal.OS, bad: root}
	assert.ErrorIs(t, journal.MakeDir(disk, dir), syscall.EIO)
	assert.NoDirExists(t, dir)
	require.NoError(t, os.Remove(filepath.Dir(dir)))
	disk.bad = ""
	require.NoError(t, journal.MakeDir(disk, dir))
	assert.Equal(t, []string{root, filepath.Dir(dir)}, disk.dirs)
	require.NoError(t, journal.MakeDir(disk, dir))
	assert.Len(t, disk.dirs, 2, "what is there is")
	file := filepath.Join(root, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Symlink(filepath.Join(root, "nowhere"), filepath.Join(root, "link")))
	for _, bad := range []string{file, filepath.Join(file, "below"), filepath.Join(root, "link")} {
		assert.Error(t, journal.MakeDir(disk, bad), bad)
	}
	disk.dirs = nil
	other, err := journal.Attach(disk, filepath.Join(root, "other", "one"), "plotbook", false)
	require.NoError(t, err)
	require.NoError(t, other.Close())
	assert.Equal(t, []string{root, filepath.Join(root, "other")}, disk.dirs)
}

func TestLocalDiskIsNoNetwork(t *testing.T) {
	assert.Empty(t, journal.Network(t.TempDir()))
	assert.Empty(t, journal.Network("/nowhere/at/all"))
}
