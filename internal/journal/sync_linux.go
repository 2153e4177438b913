package journal

import (
	"os"
	"syscall"
)

// syncData syncs the bytes and the size. fdatasync omits the times, which saves a second write on
// most file systems.
func syncData(f *os.File) error {
	for {
		err := syscall.Fdatasync(int(f.Fd()))
		if err != syscall.EINTR {
			return os.NewSyscallError("fdatasync", err)
		}
	}
}

func syncDir(d *os.File) error { return d.Sync() }
