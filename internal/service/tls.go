package service

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync"
	"time"
)

// certificate serves a certificate from files, and takes up a newer one as it comes, without
// a stop. One that cannot be read leaves the one before in use.
type certificate struct {
	cert, key string
	warn      func(error)

	mu      sync.Mutex
	kept    *tls.Certificate
	changed [2]time.Time
	looked  time.Time
}

// looksAgain is how often the files are looked at.
const looksAgain = 5 * time.Second

func newCertificate(cert, key string, warn func(error)) (*certificate, error) {
	c := &certificate{cert: cert, key: key, warn: warn}
	return c, c.read()
}

// read takes the files if they have changed.
func (c *certificate) read() error {
	var changed [2]time.Time
	for i, path := range []string{c.cert, c.key} {
		info, err := os.Stat(path)
		if err != nil {
			return fmt.Errorf("certificate: %w", err)
		}
		changed[i] = info.ModTime()
	}
	if c.kept != nil && changed == c.changed {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("certificate %s with key %s: %w", c.cert, c.key, err)
	}
	c.kept, c.changed = &pair, changed
	return nil
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) >= looksAgain {
		c.looked = time.Now()
		if err := c.read(); err != nil {
			c.warn(err)
		}
	}
	return c.kept, nil
}
