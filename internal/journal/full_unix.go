//go:build !windows

package journal

import (
	"errors"
	"syscall"
)

// IsFull reports whether a write failed only because there was no space.
func IsFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
