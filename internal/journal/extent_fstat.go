//go:build unix && (!linux || android)

package journal

import (
	"os"

	"golang.org/x/sys/unix"
)

// extent is fstat without what os.File.Stat makes of it.
func (h osHandle) extent() (extent, error) {
	var st unix.Stat_t
	for {
		err := unix.Fstat(int(h.Fd()), &st)
		if err != unix.EINTR {
			return extent{st.Size, st.Nlink == 0}, os.NewSyscallError("fstat", err)
		}
	}
}
