package pantrytest

import (
	"testing"

	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/simdisk"
)

// A Device is a directory for namespaces whose disk is in memory and can fail.
// It must not be used by several goroutines at once; the namespaces on it can.
type Device struct {
	dir  string
	disk *simdisk.Disk
}

// NewDevice gives a Device that ends with the test.
func NewDevice(t testing.TB) *Device {
	t.Helper()
	d := &Device{dir: t.TempDir(), disk: simdisk.New()}
	hooks.Set(d.dir, hooks.Setting{Disk: d.disk})
	t.Cleanup(func() { hooks.Unset(d.dir) })
	return d
}

// Dir is the directory to open namespaces in.
func (d *Device) Dir() string { return d.dir }

// Kill ends the process and cuts the power: what is open returns errors from
// now on, and what was not synced is lost. Namespaces that are opened
// afterwards find what was synced.
func (d *Device) Kill() {
	d.disk.Kill()
	d.disk = d.disk.Synced()
	hooks.Set(d.dir, hooks.Setting{Disk: d.disk})
}

// Fill leaves no space: every write fails until Free.
func (d *Device) Fill() { d.disk.Space(0) }

// Free gives space again.
func (d *Device) Free() { d.disk.Space(-1) }

// Twice has the function of every Commit and Update run once more than needed,
// in the namespaces that are opened in dir from now on until the test ends.
func Twice(t testing.TB, dir string) {
	t.Helper()
	s := hooks.Of(dir)
	s.Twice = true
	hooks.Set(dir, s)
	t.Cleanup(func() { hooks.Unset(dir) })
}
