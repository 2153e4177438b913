//go:build !linux

package main

import "os"

// bareSet returns a function that appends line to file and syncs it if sync is set. It takes no lock.
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
