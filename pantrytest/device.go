package pantrytest

import (
	"testing"

	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/simdisk"
)

// A Device is a directory for namespaces on a disk in memory that can fail. Only one goroutine can
// use it at a time. Several can use the namespaces on it.
type Device struct {
	dir  string
	disk *simdisk.Disk
}

// NewDevice returns a Device that ends with the test.
func NewDevice(t testing.TB) *Device {
	t.Helper()
	d := &Device{dir: t.TempDir(), disk: simdisk.New()}
	hooks.Set(d.dir, hooks.Setting{Disk: d.disk})
	t.Cleanup(func() { hooks.Unset(d.dir) })
	return d
}

// Dir returns the directory to open namespaces in.
func (d *Device) Dir() string { return d.dir }

// Kill ends the process and cuts the power: open namespaces return errors from now on, and
// everything that was not synced is lost. Namespaces that are opened afterwards find what was
// synced.
func (d *Device) Kill() {
	d.disk.Kill()
	d.disk = d.disk.Synced()
	hooks.Set(d.dir, hooks.Setting{Disk: d.disk})
}

// Fill uses up the space: every write fails until Free.
func (d *Device) Fill() { d.disk.Space(0) }

// Free makes space available again.
func (d *Device) Free() { d.disk.Space(-1) }

// Twice makes the function of every Commit and Update run once more than needed, for namespaces
// that are opened in dir before the test ends.
func Twice(t testing.TB, dir string) {
	t.Helper()
	s := hooks.Of(dir)
	s.Twice = true
	hooks.Set(dir, s)
	t.Cleanup(func() { hooks.Unset(dir) })
}
