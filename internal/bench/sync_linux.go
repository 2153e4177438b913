package main

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// bareSet returns a function that appends line to file and syncs it if sync is set, under lock, with bare
// system calls.
func bareSet(file, lock *os.File, line []byte, sync bool) func() error {
	data, guard := int(file.Fd()), int(lock.Fd())
	return func() error {
		var at unix.Statx_t
		if err := unix.Flock(guard, unix.LOCK_EX); err != nil {
			return err
		}
		err := unix.Statx(unix.AT_FDCWD, file.Name(), 0, unix.STATX_BASIC_STATS, &at)
		if err == nil && sync {
			err = unix.Statx(unix.AT_FDCWD, lock.Name(), 0, unix.STATX_BASIC_STATS, &at)
		}
		if err == nil {
			_, err = unix.Write(data, line)
		}
		if err == nil && sync {
			err = unix.Fdatasync(data)
		}
		return errors.Join(err, unix.Flock(guard, unix.LOCK_UN))
	}
}
