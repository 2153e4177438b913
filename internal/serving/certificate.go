package serving

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync"
	"time"
)

// lookEvery is how often a certificate's file is looked at: it is renewed now and then,
// while the server runs.
const lookEvery = 10 * time.Second

// A certificate is the newest that could be read.
type certificate struct {
	cert, key string // files

	mu     sync.Mutex // guards what follows
	now    *tls.Certificate
	of     time.Time // when its file was written
	looked time.Time
}

func loadCertificate(cert, key string) (*certificate, error) {
	c := &certificate{cert: cert, key: key}
	return c, c.read()
}

// read reads it anew. mu must be held, or nobody else know c.
func (c *certificate) read() error {
	info, err := os.Stat(c.cert)
	if err != nil {
		return fmt.Errorf("the certificate: %w", err)
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("the certificate in %s with the key in %s: %w", c.cert, c.key, err)
	}
	c.now, c.of, c.looked = &pair, info.ModTime(), time.Now()
	return nil
}

// get gives it for a connection. Where it was renewed and can't be read, as in the middle
// of being written, the one before goes on.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) > lookEvery {
		c.looked = time.Now()
		if info, err := os.Stat(c.cert); err == nil && !info.ModTime().Equal(c.of) {
			_ = c.read()
		}
	}
	return c.now, nil
}
