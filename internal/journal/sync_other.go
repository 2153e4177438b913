//go:build !linux && !windows

package journal

import "os"

// syncData: on Darwin os.File.Sync is F_FULLFSYNC, which a plain fsync is not.
func syncData(f *os.File) error { return f.Sync() }

func syncDir(d *os.File) error { return d.Sync() }
