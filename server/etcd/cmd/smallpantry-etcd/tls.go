package main

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"

	"github.com/small-pantry/pantry/internal/serving"
)

// loadTLS reads the authority that is trusted, and a certificate to show, if one is named.
func loadTLS(ca, cert, key string) (*tls.Config, error) {
	raw, err := os.ReadFile(ca)
	if err != nil {
		return nil, err
	}
	c := &tls.Config{RootCAs: x509.NewCertPool(), MinVersion: tls.VersionTLS12}
	if !c.RootCAs.AppendCertsFromPEM(raw) {
		return nil, fmt.Errorf("%w: there is no certificate in %s", serving.ErrUsage, ca)
	}
	if cert != "" {
		pair, err := tls.LoadX509KeyPair(cert, key)
		if err != nil {
			return nil, err
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}
