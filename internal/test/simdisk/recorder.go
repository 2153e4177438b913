package simdisk

import (
	"github.com/small-pantry/pantry/internal/journal"
)

// A DirRecorder is a disk that records which directories are synced, in order.
type DirRecorder struct {
	journal.Disk
	Synced []string
}

// SyncDir syncs a directory.
func (r *DirRecorder) SyncDir(dir string) error {
	r.Synced = append(r.Synced, dir)
	return r.Disk.SyncDir(dir)
}
