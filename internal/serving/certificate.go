package serving

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync"
	"time"
)

// lookEvery is how often the certificate's file is checked for a new one.
const lookEvery = 10 * time.Second

// A certificate holds the newest certificate that could be read.
type certificate struct {
	cert, key string // files

	mu     sync.Mutex // guards the following fields
	now    *tls.Certificate
	of     time.Time // modification time of its file
	looked time.Time
}

func loadCertificate(cert, key string) (*certificate, error) {
	c := &certificate{cert: cert, key: key}
	return c, c.read()
}

// read reads the files. mu must be held, unless c is not shared yet.
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

// get returns the certificate for a connection. If a new one can't be read, for example because it
// is still being written, the previous one stays.
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
