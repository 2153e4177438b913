package etcd

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"io"
	"math/big"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/rules"
)

// A pair is a certificate of this machine, and the pool that trusts it.
type pair struct {
	cert tls.Certificate
	pool *x509.CertPool
}

func newPair(t *testing.T) pair {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	of := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	p := pair{tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}, x509.NewCertPool()}
	p.pool.AddCert(leaf)
	return p
}

// A store follows the certificates: after all are replaced and every connection ends, it works on.
func TestCertificatesAreReplaced(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex // guards now and conns
	now := newPair(t)
	conns := map[net.Conn]bool{}
	current := func() pair {
		mu.Lock()
		defer mu.Unlock()
		return now
	}
	// In front of the node is a listener with TLS.
	plain := strings.TrimPrefix(endpoints[0], "http://")
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2"}, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		c := current().cert
		return &c, nil
	}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", plain)
			if err != nil {
				_ = conn.Close()
				continue
			}
			mu.Lock()
			conns[conn] = true
			mu.Unlock()
			for _, ends := range [][2]net.Conn{{conn, to}, {to, conn}} {
				go func() {
					_, _ = io.Copy(ends[0], ends[1])
					_ = ends[0].Close()
				}()
			}
		}
	}()
	s, err := Open(t.Context(), Options{Endpoints: []string{"https://" + l.Addr().String()}, Prefix: newPrefix(), TLS: func(host string) *tls.Config {
		return &tls.Config{RootCAs: current().pool, ServerName: host, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2"}}
	}})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	b := hold(t, s)
	_, err = rules.Commit(b, rules.Call{Edits: add("n", 1)})
	require.NoError(t, err)
	mu.Lock()
	now = newPair(t)
	for conn := range conns {
		_ = conn.Close()
	}
	mu.Unlock()
	_, err = rules.Commit(b, rules.Call{Edits: add("n", 1)})
	require.NoError(t, err)
	assert.Equal(t, int64(2), b.Version())
}
