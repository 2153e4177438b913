//go:build unix

package server

import "golang.org/x/sys/unix"

// maxFiles returns how many files the process may have open; 0 means unknown.
func maxFiles() int {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil || limit.Cur > 1<<30 {
		return 0
	}
	return int(limit.Cur)
}
