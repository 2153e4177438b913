//go:build !linux

package main

import "os"

// bareSet returns the function of appending, without the lock.
func bareSet(file, lock *os.File, line []byte, sync bool) func() error {
	return func() error {
		if _, err := os.Stat(file.Name()); err != nil {
			return err
		}
		if _, err := file.Write(line); err != nil || !sync {
			return err
		}
		return file.Sync()
	}
}
