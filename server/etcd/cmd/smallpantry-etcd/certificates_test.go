package main

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
)

// An authority signs certificates.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// certificates are the files ca.pem, cert.pem and key.pem of this machine, which are replaced before each
// certificate ends.
type certificates struct {
	t    *testing.T
	dir  string
	last time.Duration // of each certificate

	mu       sync.Mutex // guards the following fields
	now      authority
	replaced int
}

func newCertificates(t *testing.T) *certificates {
	c := &certificates{t: t, dir: t.TempDir(), last: time.Minute}
	c.now = c.authority()
	c.trust(c.now)
	c.renew()
	return c
}

func (c *certificates) authority() authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(c.t, err)
	of := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "Rowan Street machines"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	require.NoError(c.t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(c.t, err)
	return authority{cert, key}
}

// write replaces a file at once, as a tool that renews certificates does.
func (c *certificates) write(name string, blocks ...*pem.Block) {
	var raw bytes.Buffer
	for _, b := range blocks {
		require.NoError(c.t, pem.Encode(&raw, b))
	}
	path := filepath.Join(c.dir, name)
	require.NoError(c.t, os.WriteFile(path+".new", raw.Bytes(), 0o600))
	require.NoError(c.t, os.Rename(path+".new", path))
}

// trust writes the authorities that are trusted from now on.
func (c *certificates) trust(all ...authority) {
	var blocks []*pem.Block
	for _, a := range all {
		blocks = append(blocks, &pem.Block{Type: "CERTIFICATE", Bytes: a.cert.Raw})
	}
	c.write("ca.pem", blocks...)
}

// renew replaces the certificate and its key.
func (c *certificates) renew() {
	c.mu.Lock()
	defer c.mu.Unlock()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(c.t, err)
	of := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), NotBefore: time.Now().Add(-time.Minute), NotAfter: time.Now().Add(c.last),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"pantry"}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, of, c.now.cert, &key.PublicKey, c.now.key)
	require.NoError(c.t, err)
	raw, err := x509.MarshalECPrivateKey(key)
	require.NoError(c.t, err)
	c.write("key.pem", &pem.Block{Type: "EC PRIVATE KEY", Bytes: raw})
	c.write("cert.pem", &pem.Block{Type: "CERTIFICATE", Bytes: der})
	c.replaced++
}

// keep replaces the certificate four times in its life, until ctx ends.
func (c *certificates) keep(ctx context.Context) {
	tick := time.NewTicker(c.last / 4)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			c.renew()
		case <-ctx.Done():
			return
		}
	}
}

// change replaces the authority as docs/machines.md describes it: first both are trusted. Nodes read that
// file only when they start, so they start again, one after the other.
func (c *certificates) change(on *cluster.Cluster) error {
	next := c.authority()
	c.trust(c.now, next)
	for i := range on.Members {
		on.KillNode(i)
		if err := on.StartNode(i); err != nil {
			return err
		}
		assert.Eventually(c.t, func() bool { _, err := on.Leader(c.t.Context()); return err == nil }, hang.Patience, 50*time.Millisecond)
	}
	time.Sleep(11 * time.Second) // servers look for changed files every ten seconds
	c.mu.Lock()
	c.now = next
	c.mu.Unlock()
	c.renew()
	time.Sleep(11 * time.Second) // no server uses a certificate of the old one any more
	c.trust(next)
	return nil
}
