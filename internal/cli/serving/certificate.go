package serving

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"
	"sync"
	"time"
)

// lookEvery is how often a file is checked for a new content.
const lookEvery = 10 * time.Second

// A renewed value is read from a file, and read again when the file changes.
type renewed[T any] struct {
	what string // for errors
	path string
	read func() (T, error)

	mu     sync.Mutex // guards the following fields
	now    T
	of     time.Time // modification time of the file
	looked time.Time
}

func load[T any](what, path string, read func() (T, error)) (*renewed[T], error) {
	r := &renewed[T]{what: what, path: path, read: read}
	return r, r.again()
}

// again reads the file. mu must be held, unless r is not shared yet.
func (r *renewed[T]) again() error {
	info, err := os.Stat(r.path)
	if err != nil {
		return fmt.Errorf("%s: %w", r.what, err)
	}
	now, err := r.read()
	if err == nil {
		r.now, r.of, r.looked = now, info.ModTime(), time.Now()
	}
	return err
}

// get returns the newest value. If a new one can't be read, for example because it is still being
// written, the previous one stays.
func (r *renewed[T]) get() T {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Since(r.looked) > lookEvery {
		r.looked = time.Now()
		if info, err := os.Stat(r.path); err == nil && !info.ModTime().Equal(r.of) {
			_ = r.again()
		}
	}
	return r.now
}

type certificate = renewed[*tls.Certificate]

func loadCertificate(cert, key string) (*certificate, error) {
	return load("the certificate", cert, func() (*tls.Certificate, error) {
		pair, err := tls.LoadX509KeyPair(cert, key)
		if err != nil {
			return nil, fmt.Errorf("the certificate in %s with the key in %s: %w", cert, key, err)
		}
		return &pair, nil
	})
}

// A Trust is what a client needs to connect to servers by TLS: the authority that has signed their
// certificates, and a certificate of its own. All files are read again when they change.
type Trust struct {
	roots *renewed[*x509.CertPool]
	own   *certificate // nil means that it shows none
}

// LoadTrust reads the file of an authority. With cert it also reads a certificate and its key. The error is
// an ErrUsage for a file without a certificate.
func LoadTrust(ca, cert, key string) (*Trust, error) {
	roots, err := load("the authority", ca, func() (*x509.CertPool, error) {
		raw, err := os.ReadFile(ca)
		pool := x509.NewCertPool()
		if err == nil && !pool.AppendCertsFromPEM(raw) {
			err = fmt.Errorf("%w: there is no certificate in %s", ErrUsage, ca)
		}
		return pool, err
	})
	t := &Trust{roots: roots}
	if err == nil && cert != "" {
		t.own, err = loadCertificate(cert, key)
	}
	return t, err
}

// Config returns the configuration for a new connection to a host.
func (t *Trust) Config(host string) *tls.Config {
	c := &tls.Config{RootCAs: t.roots.get(), ServerName: host, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}
	if t.own != nil {
		c.Certificates = []tls.Certificate{*t.own.get()}
	}
	return c
}
