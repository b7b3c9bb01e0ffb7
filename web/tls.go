package web

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// Certificate is a certificate with its key in two files. They are read again when they have changed, so that it can be
// renewed while the service goes on; what cannot be read is logged, and the one before stays.
type Certificate struct {
	cert, key string
	log       *slog.Logger

	mutex  sync.Mutex
	now    *tls.Certificate
	at     [2]time.Time // of the files that now is of
	looked time.Time
}

// certificatePace is how often the files are looked at, at most.
const certificatePace = time.Second

// NewCertificate reads a certificate and its key, both in PEM.
func NewCertificate(cert, key string, log *slog.Logger) (*Certificate, error) {
	c := &Certificate{cert: cert, key: key, log: log}
	return c, c.read()
}

func (c *Certificate) read() error {
	var at [2]time.Time
	for i, path := range []string{c.cert, c.key} {
		info, err := os.Stat(path)
		if err != nil {
			return fmt.Errorf("certificate: %w", err)
		}
		at[i] = info.ModTime()
	}
	if c.now != nil && at == c.at {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("certificate %s with key %s: %w", c.cert, c.key, err)
	}
	if c.now != nil {
		c.log.Info("the certificate was renewed", "certificate", c.cert)
	}
	c.now, c.at = &pair, at
	return nil
}

// Get is the certificate of the moment.
func (c *Certificate) Get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if now := time.Now(); now.Sub(c.looked) > certificatePace {
		c.looked = now
		if err := c.read(); err != nil {
			c.log.Warn("the certificate could not be read again; the one before stays", "err", err)
		}
	}
	return c.now, nil
}

// TLS is what a listener needs.
func (c *Certificate) TLS() *tls.Config {
	return &tls.Config{GetCertificate: c.Get, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}
}
