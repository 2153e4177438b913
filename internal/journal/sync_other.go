//go:build !linux && !windows

package journal

import "os"

// syncData uses os.File.Sync, which is F_FULLFSYNC on Darwin. A plain fsync is not enough there.
func syncData(f *os.File) error { return f.Sync() }

func syncDir(d *os.File) error { return d.Sync() }
