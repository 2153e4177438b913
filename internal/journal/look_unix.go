//go:build unix && (!linux || android)

package journal

import (
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

func lookPath(path string) (Extent, error) {
	return look(path, func(st *unix.Stat_t) error { return unix.Stat(path, st) })
}

func lookFile(f *os.File) (Extent, error) {
	return look(f.Name(), func(st *unix.Stat_t) error { return unix.Fstat(int(f.Fd()), st) })
}

func look(path string, stat func(*unix.Stat_t) error) (Extent, error) {
	var st unix.Stat_t
	for {
		switch err := stat(&st); err {
		case nil:
			return Extent{ID{uint64(st.Dev), st.Ino}, st.Size}, nil
		case unix.EINTR:
		default:
			return Extent{}, &fs.PathError{Op: "stat", Path: path, Err: err}
		}
	}
}
