package wire

import (
	"crypto/sha256"
	"encoding/hex"
)

// InstanceID returns the public form of a Client-Instance: the first 8 bytes of its SHA-256, in
// hex. A client recognises its own changes by it, and no other client can pose as it. The result
// for "" is "".
func InstanceID(instance string) string {
	if instance == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(instance))
	return hex.EncodeToString(sum[:8])
}
