package serving

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
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

// A certificate that is renewed is read again. One that can't be read leaves the previous one in use.
func TestRenewal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	writePair(t, cert, key, 1)
	c, err := loadCertificate(cert, key)
	require.NoError(t, err)
	serial := func() int64 {
		c.looked = time.Time{} // it is time to look
		return c.get().Leaf.SerialNumber.Int64()
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

// A client trusts the authority that is in the file now, and shows the certificate that is there now.
func TestTrust(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ca, cert, key := filepath.Join(dir, "ca.pem"), filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	writePair(t, cert, key, 1)
	_, err := LoadTrust(key, "", "")
	require.ErrorIs(t, err, ErrUsage)
	copyTo := func(path string) {
		raw, err := os.ReadFile(cert)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, raw, 0o600))
	}
	copyTo(ca)
	trust, err := LoadTrust(ca, cert, key)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	shown := make(chan int64, 1) // the serial of the client's certificate
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			pair, err := tls.LoadX509KeyPair(cert, key)
			if err == nil {
				c := tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequireAnyClientCert, MinVersion: tls.VersionTLS12})
				if c.Handshake() == nil {
					shown <- c.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
				}
			}
			_ = conn.Close()
		}
	}()
	defer l.Close()
	connect := func() error {
		conn, err := tls.Dial("tcp", l.Addr().String(), trust.Config("127.0.0.1"))
		if err == nil {
			err = conn.Close()
		}
		return err
	}
	require.NoError(t, connect())
	assert.Equal(t, int64(1), <-shown)
	writePair(t, cert, key, 2)
	require.Error(t, connect(), "the authority is still the one before")
	copyTo(ca)
	for path, looked := range map[string]*time.Time{ca: &trust.roots.looked, cert: &trust.own.looked} {
		require.NoError(t, os.Chtimes(path, time.Now(), time.Now().Add(time.Minute)))
		*looked = time.Time{} // it is time to look
	}
	require.NoError(t, connect())
	assert.Equal(t, int64(2), <-shown)
}
