//go:build linux || darwin

package journal

import "golang.org/x/sys/unix"

// free returns how many bytes an ordinary user can still write in a directory.
func free(dir string) (bytes int64, known bool) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, false
	}
	return int64(st.Bavail) * int64(st.Bsize), true
}
