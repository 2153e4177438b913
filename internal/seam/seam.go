// Package seam lets package pantrytest, and the tests of a server, put a disk
// that fails under the namespaces or boards of a directory, and have their commits
// judged twice. In a program that does not import pantrytest it is empty.
package seam

import (
	"path/filepath"
	"sync"

	"github.com/small-pantry/pantry/internal/journal"
)

// A Setting is what differs for the namespaces of a directory.
type Setting struct {
	Disk  journal.Disk // nil: the machine's
	Twice bool         // commits are judged, and the function of a Commit runs, once more than needed
	Small int64        // the size of a file from which on it is compacted; 0: as it is
}

var settings sync.Map // directory → Setting

// Set sets what differs in dir, for namespaces that are opened from now on.
func Set(dir string, s Setting) { settings.Store(filepath.Clean(dir), s) }

// Unset ends it.
func Unset(dir string) { settings.Delete(filepath.Clean(dir)) }

// Of gives what differs in dir.
func Of(dir string) Setting {
	s, ok := settings.Load(filepath.Clean(dir))
	if !ok {
		return Setting{}
	}
	return s.(Setting)
}
