//go:build !windows

package journal

import (
	"errors"
	"syscall"
)

// IsFull says whether a write failed for want of space only.
func IsFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
