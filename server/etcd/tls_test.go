package etcd

import (
	"context"
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
	"sync/atomic"
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

// front listens with TLS in front of the node. cut ends all connections.
func front(t *testing.T, current func() pair) (address string, cut func()) {
	t.Helper()
	var mu sync.Mutex // guards conns
	conns := map[net.Conn]bool{}
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
	return "https://" + l.Addr().String(), func() {
		mu.Lock()
		defer mu.Unlock()
		for conn := range conns {
			_ = conn.Close()
		}
	}
}

func trusting(of func() pair) func(host string) *tls.Config {
	return func(host string) *tls.Config {
		return &tls.Config{RootCAs: of().pool, ServerName: host, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2"}}
	}
}

// A store follows the certificates: after all are replaced and every connection ends, it works on.
func TestCertificatesAreReplaced(t *testing.T) {
	t.Parallel()
	var now atomic.Pointer[pair]
	renew := func() {
		p := newPair(t)
		now.Store(&p)
	}
	renew()
	current := func() pair { return *now.Load() }
	address, cut := front(t, current)
	s, err := Open(t.Context(), Options{Endpoints: []string{address}, Prefix: newPrefix(), TLS: trusting(current)})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	b := hold(t, s)
	_, err = rules.Commit(b, rules.Call{Edits: add("n", 1)})
	require.NoError(t, err)
	renew()
	cut()
	_, err = rules.Commit(b, rules.Call{Edits: add("n", 1)})
	require.NoError(t, err)
	assert.Equal(t, int64(2), b.Version())
}

// A further etcd can have an authority of its own, or encryption where the first has none.
func TestGroupsWithTheirOwnTLS(t *testing.T) {
	t.Parallel()
	first, second := newPair(t), newPair(t)
	of := func(p pair) func() pair { return func() pair { return p } }
	one, _ := front(t, of(first))
	two, _ := front(t, of(second))
	for what, o := range map[string]Options{
		"both":            {Endpoints: []string{one}, TLS: trusting(of(first)), Groups: []Group{{Name: "east", Endpoints: []string{two}, TLS: trusting(of(second))}}},
		"only the second": {Endpoints: endpoints, Groups: []Group{{Name: "east", Endpoints: []string{two}, TLS: trusting(of(second))}}},
		"the same":        {Endpoints: []string{one}, TLS: trusting(of(first)), Groups: []Group{{Name: "east", Endpoints: []string{one}}}},
	} {
		o.Prefix = newPrefix()
		s, err := Open(t.Context(), o)
		require.NoError(t, err, what)
		require.NoError(t, s.Ready(t.Context()), what)
		require.NoError(t, s.Close())
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	_, err := Open(ctx, Options{Endpoints: []string{one}, TLS: trusting(of(first)), Prefix: newPrefix(), Groups: []Group{{Name: "east", Endpoints: []string{two}}}})
	assert.ErrorIs(t, err, ErrNoNode, "the first one's authority has not signed the second one's certificate")
}
