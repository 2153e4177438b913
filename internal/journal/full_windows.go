package journal

import (
	"errors"

	"golang.org/x/sys/windows"
)

// IsFull reports whether a write failed only because there was no space.
func IsFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_DISK_QUOTA_EXCEEDED)
}
