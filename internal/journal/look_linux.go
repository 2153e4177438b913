//go:build !android

package journal

import (
	"io/fs"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// look requests no times. On Linux 6.13 and later, a stat with times makes the next write update
// the inode's time and write the inode. Before kernel 4.11, and in a sandbox without statx, look is
// a plain stat. Android kills a program that calls a forbidden system call, so look does not try
// statx there.
func look(dir int, path string, flags int, plain func() (unix.Stat_t, error)) (Extent, error) {
	var st unix.Statx_t
	const want = unix.STATX_SIZE | unix.STATX_INO
	for {
		switch err := statx(dir, path, flags, want, &st); {
		case err == nil && st.Mask&want == want:
			return Extent{ID{uint64(st.Dev_major)<<32 | uint64(st.Dev_minor), st.Ino}, int64(st.Size)}, nil
		case err == unix.EINTR:
		case err == nil, err == unix.ENOSYS, err == unix.EPERM:
			st, err := plain()
			return Extent{ID{uint64(unix.Major(st.Dev))<<32 | uint64(unix.Minor(st.Dev)), st.Ino}, st.Size}, err
		default:
			return Extent{}, &fs.PathError{Op: "statx", Path: path, Err: err}
		}
	}
}

// statx is unix.Statx without its allocation: unix.Statx copies the path to the heap, which takes a
// tenth of the call. This copies a short path to the stack.
func statx(dir int, path string, flags, want int, st *unix.Statx_t) error {
	var name [256]byte
	if len(path) >= len(name) || strings.IndexByte(path, 0) >= 0 {
		return unix.Statx(dir, path, flags, want, st)
	}
	copy(name[:], path)
	_, _, err := unix.Syscall6(unix.SYS_STATX, uintptr(dir), uintptr(unsafe.Pointer(&name)), uintptr(flags), uintptr(want), uintptr(unsafe.Pointer(st)), 0)
	if err != 0 {
		return err
	}
	return nil
}

func lookPath(path string) (Extent, error) {
	return look(unix.AT_FDCWD, path, 0, func() (st unix.Stat_t, err error) {
		err = unix.Stat(path, &st)
		return st, err
	})
}

func lookFile(f *os.File) (Extent, error) {
	fd := int(f.Fd())
	return look(fd, "", unix.AT_EMPTY_PATH, func() (st unix.Stat_t, err error) {
		err = unix.Fstat(fd, &st)
		return st, err
	})
}
