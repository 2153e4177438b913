package journal

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/windows"
)

func flock(f *os.File, shared bool) (bool, error) {
	flags := uint32(windows.LOCKFILE_FAIL_IMMEDIATELY)
	if !shared {
		flags |= windows.LOCKFILE_EXCLUSIVE_LOCK
	}
	err := windows.LockFileEx(windows.Handle(f.Fd()), flags, 0, 1, 0, new(windows.Overlapped))
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_IO_PENDING) {
		return false, nil
	}
	return err == nil, os.NewSyscallError("LockFileEx", err)
}

// owner reports that every file is the user's own: on Windows, access lists protect files.
func owner(fs.FileInfo) (uid int, own bool) { return -1, true }

func funlock(f *os.File) error {
	return windows.UnlockFileEx(windows.Handle(f.Fd()), 0, 1, 0, new(windows.Overlapped))
}
