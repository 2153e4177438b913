package journal

import "os"

func syncData(f *os.File) error { return f.Sync() }

// syncDir: Windows has no way to sync a directory; its journal of metadata
// orders the rename.
func syncDir(*os.File) error { return nil }
