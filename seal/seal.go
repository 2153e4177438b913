// Package seal encrypts the values of sealed keys with AES-GCM.
//
//	sealer, err := seal.AESGCM(fromKeystore) // 32 bytes
//	ns, err := pantry.Open(dir, "gatehouse", pantry.Declare(gateCode), pantry.Seal(sealer))
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"

	"github.com/small-pantry/pantry"

	"github.com/small-pantry/pantry/internal/refuse"
)

// AESGCM returns a Sealer that uses AES-GCM (NIST SP 800-38D) with a random nonce of 96 bits for
// each value. key has 16, 24 or 32 bytes; another length is pantry.ErrInvalid. The Sealer is safe
// for concurrent use.
//
// The key must come from the platform's keystore. A key in the program's code protects nothing:
// anybody who has the program has the key.
func AESGCM(key []byte) (pantry.Sealer, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, refuse.As(pantry.ErrInvalid, "the key has %d bytes, and must have 16, 24 or 32", len(key))
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	return aesGCM{gcm}, nil
}

type aesGCM struct{ cipher.AEAD }

func (a aesGCM) Seal(plain, context []byte) ([]byte, error) {
	nonce := make([]byte, a.NonceSize(), a.NonceSize()+len(plain)+a.Overhead())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return a.AEAD.Seal(nonce, nonce, plain, context), nil
}

func (a aesGCM) Open(sealed, context []byte) ([]byte, error) {
	if len(sealed) < a.NonceSize() {
		return nil, errors.New("too short")
	}
	return a.AEAD.Open(nil, sealed[:a.NonceSize()], sealed[a.NonceSize():], context)
}
