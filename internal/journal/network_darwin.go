package journal

import (
	"strings"

	"golang.org/x/sys/unix"
)

// Network returns the kind of network or FUSE file system that dir is on, or "".
func Network(dir string) string {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return ""
	}
	name := unix.ByteSliceToString(st.Fstypename[:])
	for _, network := range []string{"nfs", "smbfs", "afpfs", "webdav", "fuse"} {
		if strings.Contains(name, network) {
			return strings.ToUpper(name)
		}
	}
	return ""
}
