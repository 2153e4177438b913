//go:build !android

package journal

import (
	"io/fs"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// look asks for no times: after a stat that does, Linux from 6.13 on gives the
// next write a time of its own, and writes the inode each time. Where the
// kernel is older than 4.11, or a sandbox forbids statx, it is a plain stat.
// (Android ends a program that calls what it forbids, so it is not tried there.)
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

// statx is unix.Statx, which makes a copy of the path on the heap each time: a tenth of what
// the call takes. A short one is copied to the stack.
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
