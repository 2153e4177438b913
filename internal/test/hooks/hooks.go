// Package hooks lets tests change how the namespaces or boards of one directory are opened:
// they can replace the disk by one that fails and run each commit function twice. Package
// pantrytest and tests set hooks. In any other program there are none.
package hooks

import (
	"path/filepath"
	"sync"

	"github.com/small-pantry/pantry/internal/journal"
)

// A Setting changes how the files of a directory are opened.
type Setting struct {
	Disk  journal.Disk // nil means the disk of the machine
	Twice bool         // run each commit function once more than needed
	Small int64        // compact files from this size on; 0 means the default
}

var settings sync.Map // directory → Setting

// Set applies s to namespaces of dir that are opened from now on.
func Set(dir string, s Setting) { settings.Store(filepath.Clean(dir), s) }

// Unset removes the setting of dir.
func Unset(dir string) { settings.Delete(filepath.Clean(dir)) }

// Of returns the setting of dir, or the zero Setting.
func Of(dir string) Setting {
	s, ok := settings.Load(filepath.Clean(dir))
	if !ok {
		return Setting{}
	}
	return s.(Setting)
}
