package journal

import (
	"errors"

	"golang.org/x/sys/windows"
)

// IsFull says whether a write failed for want of space only.
func IsFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_DISK_QUOTA_EXCEEDED)
}
