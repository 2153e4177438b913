//go:build !android

package journal

import (
	"os"

	"golang.org/x/sys/unix"
)

// extent asks for no times: after a stat that does, Linux from 6.13 on gives
// the next write a time of its own, and writes the inode each time. Where the
// kernel is older than 4.11, or a sandbox forbids statx, it is os.File.Stat.
// (Android ends a program that calls what it forbids, so it is not tried there.)
func (h osHandle) extent() (extent, error) {
	var st unix.Statx_t
	const want = unix.STATX_SIZE | unix.STATX_NLINK
	for {
		switch err := unix.Statx(int(h.Fd()), "", unix.AT_EMPTY_PATH, want, &st); err {
		case nil:
			if st.Mask&want == want {
				return extent{int64(st.Size), st.Nlink == 0}, nil
			}
			return h.statExtent()
		case unix.EINTR:
		case unix.ENOSYS, unix.EPERM:
			return h.statExtent()
		default:
			return extent{}, os.NewSyscallError("statx", err)
		}
	}
}

func (h osHandle) statExtent() (extent, error) {
	info, err := h.Stat()
	if err != nil {
		return extent{}, err
	}
	return extent{info.Size(), removed(info, "")}, nil
}
