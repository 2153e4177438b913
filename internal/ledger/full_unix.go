//go:build !windows

package ledger

import (
	"errors"
	"syscall"
)

// isFull says whether a write failed for want of space only.
func isFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
