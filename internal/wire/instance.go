package wire

import (
	"crypto/sha256"
	"encoding/hex"
)

// InstanceID is what others see of a Client-Instance, so that its client knows its own
// changes, and nobody can pose as it: the first 8 bytes of its SHA-256, in hex. Empty
// stays empty.
func InstanceID(instance string) string {
	if instance == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(instance))
	return hex.EncodeToString(sum[:8])
}
