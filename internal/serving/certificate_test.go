package serving

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// writePair writes a certificate for this machine that vouches for itself, and its key.
func writePair(t *testing.T, cert, key string, serial int64) *x509.Certificate {
	t.Helper()
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	of := &x509.Certificate{
		SerialNumber: big.NewInt(serial), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &secret.PublicKey, secret)
	require.NoError(t, err)
	inKey, err := x509.MarshalPKCS8PrivateKey(secret)
	require.NoError(t, err)
	for path, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "PRIVATE KEY", Bytes: inKey}} {
		require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(block), 0o600))
	}
	made, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return made
}

// A certificate that is renewed is read anew; one that can't be read leaves the one before.
func TestRenewal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	writePair(t, cert, key, 1)
	c, err := loadCertificate(cert, key)
	require.NoError(t, err)
	serial := func() int64 {
		c.looked = time.Time{} // it is time to look
		got, err := c.get(nil)
		require.NoError(t, err)
		return got.Leaf.SerialNumber.Int64()
	}
	assert.Equal(t, int64(1), serial())
	writePair(t, cert, key, 2)
	require.NoError(t, os.Chtimes(cert, time.Now(), time.Now().Add(time.Minute)))
	assert.Equal(t, int64(2), serial())
	require.NoError(t, os.WriteFile(cert, []byte("half"), 0o600))
	assert.Equal(t, int64(2), serial())
	require.NoError(t, os.Remove(cert))
	assert.Equal(t, int64(2), serial())
	_, err = loadCertificate(cert, key)
	assert.ErrorIs(t, err, os.ErrNotExist)
}
