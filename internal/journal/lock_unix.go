//go:build unix

package journal

import (
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// flock tries once to lock f, shared or exclusively, without waiting.
func flock(f *os.File, shared bool) (bool, error) {
	how := unix.LOCK_EX
	if shared {
		how = unix.LOCK_SH
	}
	for {
		switch err := unix.Flock(int(f.Fd()), how|unix.LOCK_NB); err {
		case nil:
			return true, nil
		case unix.EINTR:
		case unix.EWOULDBLOCK:
			return false, nil
		default:
			return false, os.NewSyscallError("flock", err)
		}
	}
}

// owner returns the user that owns a file or directory, and reports whether it is this process's
// user.
func owner(info fs.FileInfo) (uid int, own bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return -1, true
	}
	return int(st.Uid), int(st.Uid) == os.Geteuid()
}

func funlock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_UN) }
