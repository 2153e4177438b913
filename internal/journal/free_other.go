//go:build !linux && !darwin

package journal

// free returns how many bytes can still be written in a directory, if that is known.
func free(string) (bytes int64, known bool) { return 0, false }
