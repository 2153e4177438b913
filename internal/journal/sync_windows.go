package journal

import "os"

func syncData(f *os.File) error { return f.Sync() }

// syncDir does nothing: Windows can't sync a directory. Its metadata journal orders the rename.
func syncDir(*os.File) error { return nil }
